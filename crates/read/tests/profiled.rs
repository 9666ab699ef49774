//! AppArmor as descriptions ask for it, and what the profile that engines make denies.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use labels::scenes::{POLICY, asked, staged_with, verdict};
use mivask_core::fact::Provenance;
use mivask_core::scene::SelinuxMode;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_read::files::Disk;
use mivask_read::policies::{apparmor_here, selinux_here};

const DENIED: &str = "apparmor: the engine's AppArmor profile denies this on ";

/// Services of a Compose file on a host of which `host` is said.
fn composed(host: &str, services: &str) -> Stage {
    let scene = format!(
        "scene: 1\nworkloads: [compose.yaml]\nimages: {{ i: {{ user: '0:0', tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0755' }}, \
         {{ path: /core, kind: link, target: /proc/kcore }}] }} }}\nvolumes: {{ v: {{ tree: [{{ path: /, kind: dir, owner: '0:0', mode: \
         '0755' }}, {{ path: /f, owner: '0:0', mode: '0644' }}, {{ path: /d, kind: dir, owner: '0:0', mode: '0755' }}] }} }}\n\
         host: {{ {host} }}\n"
    );
    staged_with(&scene, &[("compose.yaml", &format!("name: p\nservices:\n{services}"))])
}

const ENABLED: &str = "apparmor: enabled";

#[test]
fn what_is_masked_is_denied_where_apparmor_is_on() {
    let one = |host: &str, act: &str| verdict(&composed(host, "  a: { image: i }\n"), act);
    assert_eq!(one(ENABLED, "a reads /proc/kcore"), format!("{DENIED}/proc/kcore, whoever asks"));
    assert_eq!(one(ENABLED, "a reads /core"), format!("{DENIED}/proc/kcore, whoever asks"), "by a link");
    assert_eq!(one(ENABLED, "a reads /proc/../proc/./kcore"), format!("{DENIED}/proc/kcore, whoever asks"));
    assert_eq!(one("apparmor: disabled", "a reads /proc/kcore"), "allowed");
    assert_eq!(one("", "a reads /proc/kcore"), "depends on whether the host has AppArmor");
    // access(2) and stat(2) ask no profile.
    assert_eq!(one(ENABLED, "a may-read /proc/kcore"), "allowed");
    assert_eq!(one(ENABLED, "a inspects /proc/kcore"), "allowed");
    assert_eq!(one("", "a reads /proc/uptime"), one("apparmor: disabled", "a reads /proc/uptime"));
}

#[test]
fn volumes_below_sysfs_are_not_written_to() {
    let stage =
        composed(ENABLED, "  a: { image: i, volumes: ['v:/sys/class'] }\nvolumes: { v: { name: v } }\n");
    let acts = [
        "a writes /sys/class/f",
        "a creates /sys/class/new",
        "a makes-directory /sys/class/new",
        "a deletes /sys/class/f",
        "a removes-directory /sys/class/d",
        "a renames /sys/class/f to /sys/class/g",
        "a links /sys/class/f to /sys/class/g",
        "a sets-mode 0600 on /sys/class/f",
        "a sets-owner 5:5 on /sys/class/f",
        "a shortens /sys/class/f",
    ];
    for act in acts {
        assert_eq!(verdict(&stage, act), format!("{DENIED}/sys/[^f]*/**, whoever asks"), "{act}");
        assert!(asked(&stage, act).assumptions.iter().any(|text| text.contains("AppArmor profile")), "{act}");
    }
    for act in ["a reads /sys/class/f", "a lists /sys/class", "a stamps /sys/class/f"] {
        assert_eq!(verdict(&stage, act), "allowed", "{act}");
    }
}

#[test]
fn who_has_no_profile_is_not_kept_out() {
    let loose = [
        "  a: { image: i, privileged: true, tmpfs: [/sys/class] }\n",
        "  a: { image: i, security_opt: ['apparmor=unconfined'], volumes: ['/srv:/sys/class'] }\n",
        "  a: { image: i, security_opt: ['apparmor:unconfined'], volumes: ['/srv:/sys/class'] }\n",
    ];
    for services in loose {
        let answer = asked(&composed(ENABLED, services), "a creates /sys/class/new");
        assert!(!answer.steps.iter().any(|step| step.check.code() == "apparmor"), "{services}");
    }
    let user = composed(
        "apparmor: enabled, started-by: 7101",
        "  a: { image: i, volumes: ['v:/sys/class'] }\nvolumes: { v: { name: v } }\n",
    );
    assert!(!verdict(&user, "a creates /sys/class/new").contains("AppArmor"));
    let own = composed(ENABLED, "  a: { image: i, security_opt: ['apparmor=web'] }\n");
    assert_eq!(verdict(&own, "a reads /"), "depends on what the AppArmor profile web permits");
    let off = composed("apparmor: disabled", "  a: { image: i, security_opt: ['apparmor=web'] }\n");
    assert_eq!(verdict(&off, "a lists /"), "allowed");
    // By name it is the engine's own.
    let named = composed(ENABLED, "  a: { image: i, security_opt: ['apparmor=docker-default'] }\n");
    assert!(verdict(&named, "a reads /proc/kcore").starts_with(DENIED));
}

#[test]
fn pods_ask_for_a_profile_by_its_type() {
    let one = |pod: &str, container: &str| {
        let manifest = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {{ runAsUser: 0{pod} }}\n  containers:\n    - {{ name: \
             a, image: i, securityContext: {{ runAsGroup: 0{container} }} }}\n"
        );
        let scene = "scene: 1\nworkloads: [pod.yaml]\nhost: { apparmor: enabled }\nimages: { i: { user: '0:0', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] } }\n";
        verdict(&staged_with(scene, &[("pod.yaml", &manifest)]), "a reads /proc/kcore")
    };
    let denied = format!("{DENIED}/proc/kcore, whoever asks");
    let of = |kind: &str| format!(", appArmorProfile: {{ type: {kind} }}");
    assert_eq!(one("", ""), denied);
    assert_eq!(one(&of("RuntimeDefault"), ""), denied);
    assert_eq!(one(&of("Unconfined"), ""), "allowed");
    assert_eq!(one("", &of("Unconfined")), "allowed");
    assert_eq!(one(&of("Unconfined"), &of("RuntimeDefault")), denied);
    let own = of("Localhost, localhostProfile: web");
    assert_eq!(one(&own, ""), "depends on what the AppArmor profile web permits");
    assert_eq!(one(&own, &of("Unconfined")), "allowed");
}

#[test]
fn bundles_name_profile_and_labels() {
    let one = |process: &str, linux: &str, scene: &str| {
        let config = format!(
            "{{ \"ociVersion\": \"1.0.2\", \"process\": {{ \"user\": {{ \"uid\": 0, \"gid\": 0 }}, \"cwd\": \"/\", \"args\": [\"a\"]{process} }}, \
             \"root\": {{ \"path\": \"rootfs\" }}, \"hostname\": \"a\", \"mounts\": [{{ \"destination\": \"/proc\", \"type\": \"proc\", \
             \"source\": \"proc\" }}], \"linux\": {{ \"maskedPaths\": [\"/proc/kcore\"]{linux} }} }}"
        );
        staged_with(&format!("scene: 1\nworkloads: [config.json]\n{scene}"), &[("config.json", &config)])
    };
    let named = ", \"apparmorProfile\": \"cri-containerd.apparmor.d\"";
    let stage = one(named, "", "host: { apparmor: enabled }\n");
    assert!(
        verdict(&stage, "a reads /proc/kcore").contains("apparmor"),
        "{}",
        verdict(&stage, "a reads /proc/kcore")
    );
    let without = one("", "", "host: { apparmor: enabled }\n");
    assert!(!verdict(&without, "a reads /proc/kcore").contains("AppArmor"));
    let label = ", \"selinuxLabel\": \"system_u:system_r:container_t:s0:c1,c2\"";
    let mount = ", \"mountLabel\": \"system_u:object_r:container_file_t:s0:c1,c2\"";
    let stage = one(label, mount, &format!("host: {{ selinux: {{ policy: '{POLICY}' }} }}\n"));
    let facts = stage.actor("a").unwrap().facts();
    let told = facts.iter().find(|fact| fact.field.word() == "label").unwrap();
    assert_eq!(told.value, "system_u:system_r:container_t:s0:c1,c2");
    assert_eq!(told.from.to_string().split(' ').next_back(), Some("process.selinuxLabel"));
}

#[test]
fn what_this_machine_shows_is_taken_with_one_word() {
    let folder = tempfile::tempdir().unwrap();
    let at = |path: &str| folder.path().join(path);
    let told = || selinux_here(&Disk, folder.path(), Provenance::rule("here"));
    assert_eq!(told().unwrap().mode, SelinuxMode::Disabled, "there is no selinuxfs");
    assert!(!apparmor_here(&Disk, folder.path()));
    std::fs::create_dir_all(at("fs/selinux")).unwrap();
    std::fs::create_dir_all(at("module/apparmor/parameters")).unwrap();
    std::fs::write(at("fs/selinux/enforce"), "1").unwrap();
    std::fs::write(at("module/apparmor/parameters/enabled"), "Y\n").unwrap();
    assert!(told().unwrap_err().message.contains("policy cannot be read"));
    std::fs::copy(POLICY, at("fs/selinux/policy")).unwrap();
    let here = told().unwrap();
    assert_eq!((here.mode, here.policy.is_some()), (SelinuxMode::Enforcing, true));
    std::fs::write(at("fs/selinux/enforce"), "0").unwrap();
    assert_eq!(told().unwrap().mode, SelinuxMode::Permissive);
    assert!(apparmor_here(&Disk, folder.path()));
    std::fs::write(at("fs/selinux/policy"), b"no policy").unwrap();
    assert!(told().unwrap_err().help.is_some());
}

#[test]
fn live_on_a_host_without_either_changes_nothing() {
    if std::path::Path::new("/sys/fs/selinux/enforce").exists()
        || apparmor_here(&Disk, std::path::Path::new("/sys"))
    {
        return;
    }
    let stage =
        composed("selinux: live, apparmor: live", "  a: { image: i, security_opt: ['label=level:s0:c1'] }\n");
    let answer = asked(&stage, "a reads /proc/kcore");
    assert_eq!(answer.outcome, Outcome::Allowed);
}

/// The annotation that was there before the field: a container's own field comes before it, and it before the pod's.
#[test]
fn an_old_annotation_names_a_profile() {
    const KEY: &str = "container.apparmor.security.beta.kubernetes.io";
    let one = |annotation: &str, pod: &str, own: &str| {
        let scene =
            "scene: 1\nworkloads: [p.yaml]\nhost: { apparmor: enabled }\nimages: { i: { user: '0:0' } }\n";
        let object = format!(
            "apiVersion: apps/v1\nkind: Deployment\nmetadata: {{ name: p, annotations: {{ {KEY}/a: unconfined }} }}\nspec:\n  template:\n    \
             metadata: {{ annotations: {{ {annotation} }} }}\n    spec:\n      securityContext: {{ {pod} }}\n      containers:\n        \
             - {{ name: a, image: i, securityContext: {{ {own} }} }}\n"
        );
        verdict(&staged_with(scene, &[("p.yaml", &object)]), "a reads /proc/kcore")
    };
    let denied = format!("{DENIED}/proc/kcore, whoever asks");
    // That of the Deployment itself is none of its pods.
    assert_eq!(one("", "", ""), denied);
    assert_eq!(one(&format!("{KEY}/a: unconfined"), "", ""), "allowed");
    assert_eq!(one(&format!("{KEY}/b: unconfined"), "", ""), denied);
    assert_eq!(
        one(&format!("{KEY}/a: runtime/default"), "appArmorProfile: { type: Unconfined }", ""),
        denied
    );
    assert_eq!(one(&format!("{KEY}/a: unconfined"), "", "appArmorProfile: { type: RuntimeDefault }"), denied);
    assert!(
        one(&format!("{KEY}/a: localhost/own"), "", "")
            .starts_with("depends on what the AppArmor profile own")
    );
}
