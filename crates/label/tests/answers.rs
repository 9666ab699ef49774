//! What the tests' own policy says, by hand.
#![expect(clippy::unwrap_used, reason = "tests")]

use mivask_label::{Cache, Context, ContextError, Policy, Reason, Unknown};

const POLICY: &[u8] = include_bytes!("policy/containers.33");

fn policy() -> Policy {
    Policy::read(POLICY).unwrap()
}

fn label(policy: &Policy, text: &str) -> Context {
    policy.context(text).unwrap_or_else(|problem| panic!("{text}: {problem}"))
}

/// The names of what `source` may do to `target`.
fn may(policy: &Policy, source: &str, target: &str, class: &str) -> Vec<String> {
    let class = policy.class(class).unwrap();
    let decision = policy.decide(&label(policy, source), &label(policy, target), class.id());
    class.names(decision.allowed).map(str::to_owned).collect()
}

const CONTAINER: &str = "system_u:system_r:container_t:s0:c12,c40";

#[test]
fn labels_are_written_as_they_are_read() {
    let policy = policy();
    for text in [
        "system_u:object_r:container_file_t:s0",
        "system_u:object_r:container_file_t:s0:c12,c40",
        "system_u:object_r:container_file_t:s0:c1.c3,c7",
        "system_u:system_r:container_t:s0-s0:c0.c1023",
        "system_u:object_r:var_t:s0-s1:c1,c2",
    ] {
        assert_eq!(policy.text(&label(&policy, text)), text);
    }
    let written = |text: &str| policy.text(&label(&policy, text));
    assert_eq!(written("system_u:object_r:svirt_sandbox_file_t:s0"), "system_u:object_r:container_file_t:s0");
    assert_eq!(written("system_u:object_r:tmp_t:s0:c3,c1,c2"), "system_u:object_r:tmp_t:s0:c1.c3");
    assert_eq!(written("system_u:object_r:tmp_t:s0:c1.c2"), "system_u:object_r:tmp_t:s0:c1,c2");
    assert_eq!(written("system_u:object_r:tmp_t:s0-s0"), "system_u:object_r:tmp_t:s0");
}

#[test]
fn labels_that_are_none_say_why() {
    let policy = policy();
    let missing = |what, name: &str| ContextError::Missing { what, name: name.into() };
    for (text, error) in [
        ("", ContextError::Parts),
        ("container_file_t", ContextError::Parts),
        ("system_u:object_r:container_file_t", ContextError::Parts),
        ("nobody_u:object_r:tmp_t:s0", missing("user", "nobody_u")),
        ("system_u:object_r:nothing_t:s0", missing("type", "nothing_t")),
        ("system_u:object_r:file_type:s0", missing("type", "file_type")),
        ("system_u:object_r:tmp_t:s7", missing("sensitivity", "s7")),
        ("system_u:object_r:tmp_t:s0:c1024", missing("category", "c1024")),
        ("system_u:object_r:tmp_t:s0:c5.c5", missing("range of categories", "c5.c5")),
        ("staff_u:system_r:container_t:s0", ContextError::Invalid),
        ("system_u:system_r:tmp_t:s0", ContextError::Invalid),
        ("system_u:object_r:tmp_t:s0:c1-s0", ContextError::Invalid),
    ] {
        assert_eq!(policy.context(text).unwrap_err(), error, "{text}");
    }
}

#[test]
fn levels_decide_between_two_containers() {
    let policy = policy();
    let own = may(&policy, CONTAINER, "system_u:object_r:container_file_t:s0:c12,c40", "file");
    assert!(own.contains(&"write".to_owned()) && own.contains(&"read".to_owned()));
    let shared = may(&policy, CONTAINER, "system_u:object_r:container_file_t:s0", "file");
    assert_eq!(shared, own);
    let others = may(&policy, CONTAINER, "system_u:object_r:container_file_t:s0:c12,c41", "file");
    assert!(!others.contains(&"read".to_owned()) && !others.contains(&"write".to_owned()));
    assert_eq!(may(&policy, CONTAINER, "system_u:object_r:user_home_t:s0", "file"), [""; 0]);
}

#[test]
fn refusals_name_the_rule_the_constraint_or_the_boolean() {
    let mut policy = policy();
    let ask = |policy: &Policy, target: &str, class: &str, permission: &str| {
        let class = policy.class(class).unwrap();
        let (source, target) = (label(policy, CONTAINER), label(policy, target));
        let refusals = policy.refusals(&source, &target, class.id(), class.permission(permission).unwrap());
        let written = refusals.iter().map(|refusal| match &refusal.reason {
            Reason::NoRule => "no rule".to_owned(),
            Reason::Off(booleans) => booleans.join(" "),
            Reason::Constraint(constraint) => policy.constraint_text(constraint),
            Reason::Role => "role".to_owned(),
            Reason::Bounds(outer) => format!("bounds {outer}"),
        });
        written.collect::<Vec<_>>().join("; ")
    };
    assert_eq!(ask(&policy, "system_u:object_r:user_home_t:s0", "file", "write"), "no rule");
    assert_eq!(ask(&policy, "system_u:object_r:nfs_t:s0", "file", "write"), "virt_use_nfs");
    assert_eq!(
        ask(&policy, "system_u:object_r:container_file_t:s0:c1", "file", "write"),
        "(h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type"
    );
    assert!(policy.set_boolean("virt_use_nfs", true) && !policy.set_boolean("no_such", true));
    assert_eq!(ask(&policy, "system_u:object_r:nfs_t:s0", "file", "write"), "");
}

#[test]
fn new_files_take_their_directory_s_type_and_the_maker_s_level() {
    let policy = policy();
    let new = |source: &str, target: &str, class: &str, name: &str| {
        let class = policy.class(class).unwrap().id();
        let name = Some(name.as_bytes()).filter(|name| !name.is_empty());
        policy
            .new_label(&label(&policy, source), &label(&policy, target), class, name)
            .map(|new| policy.text(&new))
    };
    let written = |text: &str| Some(text.to_owned());
    assert_eq!(
        new(CONTAINER, "system_u:object_r:container_file_t:s0", "file", "a"),
        written("system_u:object_r:container_file_t:s0:c12,c40")
    );
    let logger = "system_u:system_r:logger_t:s0";
    assert_eq!(
        new(logger, "system_u:object_r:var_log_t:s0", "file", "a"),
        written("system_u:object_r:app_log_t:s0")
    );
    assert_eq!(
        new(logger, "system_u:object_r:var_log_t:s0", "file", "cache.db"),
        written("system_u:object_r:app_cache_t:s0")
    );
    assert_eq!(
        new("staff_u:staff_r:staff_t:s0", "staff_u:object_r:user_home_dir_t:s0", "dir", ".ssh"),
        written("staff_u:object_r:ssh_home_t:s0")
    );
    assert_eq!(
        new("system_u:system_r:init_t:s0", "system_u:object_r:logger_exec_t:s0", "process", ""),
        written("system_u:system_r:logger_t:s0:c1,c2-s0:c1.c9")
    );
    // The role that the transition gives does not go with the type.
    assert_eq!(new("staff_u:staff_r:staff_t:s0", "system_u:object_r:bin_t:s0", "process", ""), None);
}

#[test]
fn the_rest_of_a_policy() {
    let policy = policy();
    assert_eq!((policy.version(), policy.unknown(), policy.has_levels()), (33, Unknown::Allow, true));
    assert!(policy.has_capability(1) && !policy.has_capability(3));
    assert!(policy.is_permissive(policy.type_("cron_t").unwrap()));
    assert!(!policy.is_permissive(policy.type_("container_t").unwrap()));
    assert_eq!(policy.text(policy.without_attribute()), "system_u:object_r:file_t:s0");
    let booleans: Vec<_> = policy.booleans().filter(|(_, on)| *on).map(|(name, _)| name).collect();
    assert_eq!(booleans, ["container_use_cephfs", "container_read_certs"]);
    let dir = policy.class("dir").unwrap().id();
    let label = policy.path_label("proc", b"/sys/kernel/hostname", dir).unwrap();
    assert_eq!(policy.text(label), "system_u:object_r:sysctl_kernel_t:s0");
}

#[test]
fn a_cache_says_what_the_policy_says() {
    let policy = policy();
    let mut cache = Cache::default();
    let class = policy.class("file").unwrap().id();
    let (source, target) = (label(&policy, CONTAINER), label(&policy, "system_u:object_r:etc_t:s0"));
    let numbers = (cache.number(&source), cache.number(&target));
    assert_eq!(numbers, (cache.number(&source), cache.number(&target)));
    for _ in 0..2 {
        assert_eq!(
            cache.decide(&policy, numbers.0, numbers.1, class),
            policy.decide(&source, &target, class)
        );
    }
}
