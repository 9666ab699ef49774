//! Identities and volumes under Docker, Podman, runc and crun, row by row as measured (docs/facts/runtimes.md).

mod fixtures;

use mivask_core::mode::Mode;
use mivask_core::question::{MountRow, facts_at, mounts};
use mivask_core::stage::Stage;

use fixtures::{GROUP, PASSWD, identity, stage};

const IMAGE: &str = "
    tree:
    - { path: /, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /data, kind: dir, owner: '405:1001', mode: 0750 }
    - { path: /data/a, owner: '405:1001', mode: 4755 }
    - { path: /data/sub, kind: dir, owner: '405:50', mode: 2775 }
    - { path: /empty, kind: dir, owner: '405:1001', mode: 0750 }
    - { path: /sticky, kind: dir, owner: '0:50', mode: 1777 }
    - { path: /m0, kind: dir, owner: '405:405', mode: 0000 }
    - { path: /link, kind: link, owner: '0:0', target: /data }
    - { path: /dangling, kind: link, owner: '0:0', target: /nowhere }
    - { path: /file, owner: '405:405', mode: 0644 }
    - { path: /etc, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /proc, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /sys, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /dev, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /run, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /tmp, kind: dir, owner: '0:0', mode: 1777 }
";

/// A Compose service `c` of the measured image under `runtime`; `more` are further keys of the scene.
fn engine(runtime: &str, service: &str, top: &str, more: &str) -> Stage {
    let accounts = |text: &str| text.replace('\n', "\n        ");
    let scene = format!(
        "scene: 1\nruntime: {runtime}\nworkloads: [compose.yaml]\nimages:\n  i:\n    user: null\n    accounts:\n      \
         passwd: |\n        {}\n      group: |\n        {}{IMAGE}{more}",
        accounts(PASSWD),
        accounts(GROUP),
    );
    let compose = format!("services:\n  c: {{ image: i, {service} }}\n{top}");
    stage("s.yaml", &[("s.yaml", &scene), ("compose.yaml", &compose)])
}

macro_rules! users {
    ($runtime:literal $($name:ident: $($user:literal),+ => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            for user in [$($user),+] {
                let service = if user == "-" { String::new() } else { format!("user: '{user}'") };
                assert_eq!(identity(&engine($runtime, &service, "", "")), $expected, "user {user:?}");
            }
        }
    )+};
}

mod docker_users {
    use super::*;

    // docs/facts/runtimes.md 1.1
    users! { "docker"
        root: "-", "", ":", "root", "0" => "0:0 0,10";
        alice: "alice", "1000", "01000", "+1000", "alice:", "1000:" => "1000:1000 9,10,29,50,1000,4100,4200,4301";
        app: "app", "405" => "405:1001 50,1001";
        bob_and_a_number_that_is_a_name: "bob", "1001" => "1001:1000 50,1000,4101";
        a_name_that_is_a_number: "1234" => "1234:0 0";
        the_uid_behind_that_name: "5678" => "5678:5679 4501,5679";
        no_entry: "9999", "9999:" => "9999:0 0";
        a_group_drops_memberships: "alice:staff", "alice:50", "alice:0050", "1000:+50", "alice:staff:x" => "1000:50 50";
        the_own_group: "1000:1000", "alice:alice" => "1000:1000 1000";
        root_by_numbers_loses_wheel: "0:0" => "0:0 0";
        a_group_that_is_not_listed: "alice:7777" => "1000:7777 7777";
        neither_listed: "9999:9998" => "9999:9998 9998";
        only_a_group: ":staff", ":50" => "0:50 50";
        first_of_two_lines: "dupa", "2000" => "2000:2001 2001,4051";
        second_name_of_a_uid: "dupb" => "2000:2002 2002,4050";
        a_name_with_two_lines: "dupname" => "2100:2100 2100";
        listed_twice: "twice" => "3100:3101 3101,4000";
        first_group_of_that_name: "alice:dupg" => "1000:4100 4100";
        a_group_named_like_a_number: "alice:4300" => "1000:4300 4301";
        unknown_users: "nouser" => "refused: no passwd line of the image has the name `nouser`";
        case_counts: "Alice" => "refused: no passwd line of the image has the name `Alice`";
        no_such_group: "alice:nogroup" => "refused: no group line of the image has the name `nogroup`";
        the_largest_id: "2147483647" => "2147483647:0 0";
        too_large: "2147483648" => "refused: `2147483648`: uids and gids must be in range 0-2147483647";
        negative: "-1" => "refused: `-1`: uids and gids must be in range 0-2147483647";
    }
}

mod podman_users {
    use super::*;

    // docs/facts/runtimes.md 1.2
    users! { "podman"
        nobody_named: "-" => "0:0 10";
        root: "root", "0" => "0:0 0,10";
        a_colon_alone: ":" => "0:0 0";
        a_colon_behind: "alice:", "1000:" => "1000:1000 1000";
        alice: "alice" => "1000:1000 9,10,29,50,1000,4100,4200,4301";
        no_name_capture: "alice:4300" => "1000:4300 4300";
        no_entry: "9999" => "9999:0 0";
    }
}

macro_rules! added {
    ($runtime:literal $($name:ident: $user:literal + $groups:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            let service = format!("user: '{}', group_add: {}", $user, $groups);
            assert_eq!(identity(&engine($runtime, &service, "", "")), $expected);
        }
    )+};
}

mod docker_group_add {
    use super::*;

    added! { "docker"
        by_name_and_number: "9999" + "[staff, '7777']" => "9999:0 0,50,7777";
        beside_a_group_part: "alice:alice" + "[staff]" => "1000:1000 50,1000";
        a_missing_name: "alice" + "[nogroup]" => "refused: unable to find group nogroup: the image's group file has no further line for it";
        two_spellings_of_one: "9999" + "['50', staff]" => "refused: unable to find group staff: the image's group file has no further line for it";
        one_it_has_already: "alice" + "[staff]" => "1000:1000 9,10,29,50,1000,4100,4200,4301,5050";
    }
}

/// The mount of `c` at `at`.
mod podman_group_add {
    use super::*;

    // docs/facts/runtimes.md 1.2: root, who starts it, has none
    added! { "podman"
        kept_groups_are_those_of_the_caller: "alice" + "[keep-groups]" => "1000:1000 ";
        kept_groups_stand_alone: "alice" + "[staff, keep-groups]" => "refused: keep-groups takes no other group beside it";
    }

    #[test]
    fn docker_takes_it_for_a_name() {
        let stage = engine("docker", "user: alice, group_add: [keep-groups]", "", "");
        assert!(identity(&stage).starts_with("refused: unable to find group keep-groups"));
    }
}

fn mount(stage: &Stage, at: &str) -> MountRow {
    let rows = mounts(stage, &stage.actors[0]);
    rows.into_iter()
        .rfind(|row| row.at == at.as_bytes())
        .unwrap_or_else(|| panic!("nothing is mounted at {at}"))
}

/// `uid:gid mode` of the mount's root, with its flags.
fn root(stage: &Stage, at: &str) -> String {
    let row = mount(stage, at);
    let root =
        row.root.map_or("unknown".to_owned(), |root| format!("{}:{} {}", root.uid, root.gid, root.mode));
    format!("{root} {}", row.flags)
}

macro_rules! volumes {
    ($runtime:literal $($name:ident: $service:literal at $at:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            let stage = engine($runtime, $service, "volumes: { v: {}, w: {} }\n", "");
            assert_eq!(root(&stage, $at), $expected);
        }
    )+};
}

mod docker_volumes {
    use super::*;

    // docs/facts/runtimes.md 3.1 and 5
    volumes! { "docker"
        filled_from_the_image: "volumes: ['v:/data']" at "/data" => "405:1001 0750 rw";
        an_empty_directory_gives_owner_and_mode: "volumes: ['v:/empty']" at "/empty" => "405:1001 0750 rw";
        sticky_is_kept: "volumes: ['v:/sticky']" at "/sticky" => "0:50 1777 rw";
        closed_is_kept: "volumes: ['v:/m0']" at "/m0" => "405:405 0000 rw";
        missing_in_the_image: "user: alice, volumes: ['v:/new']" at "/new" => "0:0 0755 rw";
        through_a_link: "volumes: ['v:/link']" at "/link" => "405:1001 0750 rw";
        a_dangling_link: "volumes: ['v:/dangling']" at "/dangling" => "0:0 0755 rw";
        not_copied: "volumes: ['v:/data:nocopy']" at "/data" => "0:0 0755 rw";
        read_only_is_filled_too: "volumes: ['v:/data:ro']" at "/data" => "405:1001 0750 ro";
        anonymous: "volumes: ['/data']" at "/data" => "405:1001 0750 rw";
        at_two_paths: "volumes: ['v:/data', 'v:/zzz']" at "/zzz" => "405:1001 0750 rw";
        nested_each_by_its_own: "volumes: ['w:/data/sub', 'v:/data']" at "/data/sub" => "405:50 2775 rw";
        tmpfs_at_a_new_path: "tmpfs: /new" at "/new" => "0:0 1777 rw,noexec,nosuid,nodev";
        tmpfs_takes_the_directorys_mode: "tmpfs: /data" at "/data" => "0:0 0750 rw,noexec,nosuid,nodev";
        tmpfs_ignores_its_mode: "tmpfs: '/data:mode=700'" at "/data" => "0:0 0750 rw,noexec,nosuid,nodev";
        tmpfs_with_a_mode_at_a_new_path: "tmpfs: '/new:mode=700,uid=405,gid=50'" at "/new" => "405:50 0700 rw,noexec,nosuid,nodev";
        tmpfs_owner: "tmpfs: '/data:uid=405'" at "/data" => "405:0 0750 rw,noexec,nosuid,nodev";
        tmpfs_with_programs: "tmpfs: '/new:exec'" at "/new" => "0:0 1777 rw,nosuid,nodev";
        the_user_has_no_influence: "user: alice, tmpfs: /m0" at "/m0" => "0:0 0000 rw,noexec,nosuid,nodev";
        hosts_follow_the_root: "read_only: true" at "/etc/hosts" => "0:0 0644 ro";
        sys_is_read_only: "read_only: false" at "/sys" => "0:0 0555 ro,noexec,nosuid,nodev";
        sys_of_a_privileged_one: "privileged: true" at "/sys" => "0:0 0555 rw,noexec,nosuid,nodev";
        shm: "read_only: true" at "/dev/shm" => "0:0 1777 rw,noexec,nosuid,nodev";
    }

    #[test]
    fn content_keeps_owners_and_modes() {
        let stage = engine("docker", "volumes: ['v:/data']", "volumes: { v: {} }\n", "");
        let facts = facts_at(&stage, &stage.actors[0], b"/data/a").expect("it was copied");
        assert_eq!((facts.uid.map(|uid| uid.raw()), facts.mode), (Some(405), Some(Mode::new(0o4755))));
    }

    #[test]
    fn a_file_is_no_place_for_a_volume() {
        let stage = engine("docker", "volumes: ['v:/file']", "volumes: { v: {} }\n", "");
        assert!(identity(&stage).contains("is not a directory in the image"), "{}", identity(&stage));
    }

    #[test]
    fn a_volume_that_holds_something_is_left_alone() {
        let told = "volumes:\n  v: { filesystem: ext4, tree: [ { path: /, kind: dir, owner: '7:8', mode: 0711 }, { path: /x, owner: '7:8', mode: 0600 } ] }\n";
        let stage = engine("docker", "volumes: ['v:/data']", "volumes: { v: {} }\n", told);
        assert_eq!(root(&stage, "/data"), "7:8 0711 rw");
    }

    #[test]
    fn an_emptied_volume_is_filled_again() {
        let told = "volumes:\n  v: { filesystem: ext4, tree: [ { path: /, kind: dir, owner: '7:8', mode: 0711 } ] }\n";
        let stage = engine("docker", "volumes: ['v:/data']", "volumes: { v: {} }\n", told);
        assert_eq!(root(&stage, "/data"), "405:1001 0750 rw");
    }

    #[test]
    fn a_remapped_daemon_shifts_what_it_copies() {
        let host = "host: { user-namespace: { uids: ['0 165536 65536'], gids: ['0 165536 65536'] } }\n";
        let stage = engine("docker", "volumes: ['v:/data', 'w:/new']", "volumes: { v: {}, w: {} }\n", host);
        assert_eq!(
            (root(&stage, "/data"), root(&stage, "/new")),
            ("165941:166537 0750 rw".into(), "165536:165536 0755 rw".into())
        );
    }
}

mod podman_volumes {
    use super::*;

    // docs/facts/runtimes.md 3.2 and 5
    volumes! { "podman"
        filled_from_the_image: "volumes: ['v:/data']" at "/data" => "405:1001 0750 rw,nosuid,nodev";
        missing_goes_to_the_process: "user: alice, volumes: ['v:/new']" at "/new" => "1000:1000 0755 rw,nosuid,nodev";
        missing_goes_to_a_process_without_account: "user: '9999', volumes: ['v:/new']" at "/new" => "9999:0 0755 rw,nosuid,nodev";
        a_link_gives_its_own_mode: "volumes: ['v:/link']" at "/link" => "0:0 0777 rw,nosuid,nodev";
        tmpfs_is_sticky_whatever_was_there: "tmpfs: /data" at "/data" => "0:0 1777 rw,nosuid,nodev";
        tmpfs_with_a_mode: "tmpfs: '/data:mode=700'" at "/data" => "0:0 0700 rw,nosuid,nodev";
        scratch_under_a_read_only_root: "read_only: true" at "/tmp" => "0:0 1777 rw,nosuid,nodev";
        hosts_follow_the_root: "read_only: true" at "/etc/hosts" => "0:0 0644 ro,noexec,nosuid,nodev";
        taken_over_but_for_the_root: "user: alice, volumes: ['v:/data:U']" at "/data" => "405:1001 0750 rw,nosuid,nodev";
        taken_over_at_a_missing_path: "user: alice, volumes: ['v:/new:U']" at "/new" => "1000:1000 0755 rw,nosuid,nodev";
        flags_are_added: "volumes: ['v:/data:noexec']" at "/data" => "405:1001 0750 rw,noexec,nosuid,nodev";
    }

    #[test]
    fn what_is_taken_over_loses_set_id_bits() {
        let stage = engine("podman", "user: alice, volumes: ['v:/data:U']", "volumes: { v: {} }\n", "");
        let at = |path: &[u8]| {
            let facts = facts_at(&stage, &stage.actors[0], path).expect("it was copied");
            (facts.uid.map(|uid| uid.raw()), facts.gid.map(|gid| gid.raw()), facts.mode)
        };
        assert_eq!(at(b"/data/a"), (Some(1000), Some(1000), Some(Mode::new(0o755))));
        assert_eq!(at(b"/data/sub"), (Some(1000), Some(1000), Some(Mode::new(0o2775))));
    }

    #[test]
    fn the_hosts_own_files_are_taken_over_too() {
        let stage = engine("podman", "user: alice, volumes: ['/srv:/in:U,ro']", "", HOST);
        assert_eq!(root(&stage, "/in"), "1000:1000 2775 ro");
        let over = engine("podman", "user: alice, volumes: ['/srv:/in:O']", "", HOST);
        assert_eq!(root(&over, "/in"), "7:8 2775 rw");
    }

    #[test]
    fn a_mapped_mount_needs_a_namespace() {
        let alone = engine("podman", "volumes: ['/srv:/in:idmap']", "", HOST);
        assert_eq!(identity(&alone), "refused: `idmap` needs a user namespace of the container's own");
        let spaced = HOST.replace(
            "host: { ",
            "host: { user-namespace: { uids: ['0 100000 65536'], gids: ['0 100000 65536'] }, ",
        );
        let mapped = engine("podman", "volumes: ['/srv:/in:idmap']", "", &spaced);
        let facts = facts_at(&mapped, &mapped.actors[0], b"/in").expect("it is mounted");
        assert_eq!((facts.uid.map(|uid| uid.raw()), facts.gid.map(|gid| gid.raw())), (Some(7), Some(8)));
    }

    #[test]
    fn docker_knows_none_of_these_options() {
        for option in ["U", "O", "idmap", "noexec"] {
            let stage =
                engine("docker", &format!("volumes: ['v:/data:{option}']"), "volumes: { v: {} }\n", "");
            assert_eq!(
                identity(&stage),
                format!("refused: `{option}` is not an option of a volume for this engine")
            );
        }
    }

    #[test]
    fn a_tmpfs_holds_a_copy_of_what_it_covers() {
        let stage = engine("podman", "tmpfs: /data", "", "");
        let facts = facts_at(&stage, &stage.actors[0], b"/data/sub").expect("it was copied");
        assert_eq!((facts.uid.map(|uid| uid.raw()), facts.mode), (Some(405), Some(Mode::new(0o2775))));
    }

    #[test]
    fn an_owner_of_a_tmpfs_is_refused() {
        let stage = engine("podman", "tmpfs: '/new:uid=405'", "", "");
        assert_eq!(identity(&stage), "refused: `uid=` and `gid=` of a tmpfs are refused here");
    }
}

const HOST: &str = "host: { tree: [ { path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /srv, kind: dir, owner: '7:8', mode: 2775 } ] }\n";

#[test]
fn docker_makes_a_missing_source_and_podman_refuses() {
    let docker = engine("docker", "user: alice, volumes: ['/srv/new/x:/in:ro']", "", HOST);
    assert_eq!(root(&docker, "/in"), "0:0 2755 ro");
    let podman = engine("podman", "volumes: ['/srv/new:/in']", "", HOST);
    assert!(
        identity(&podman).starts_with("refused: host path /srv/new: nothing is there"),
        "{}",
        identity(&podman)
    );
}

#[test]
fn the_long_form_makes_a_source_only_when_told() {
    let long = |more: &str| format!("volumes: [ {{ type: bind, source: /srv/new, target: /in{more} }} ]");
    let refused = engine("docker", &long(""), "", HOST);
    assert!(identity(&refused).contains("nothing is there"), "{}", identity(&refused));
    let made = engine("docker", &long(", bind: { create_host_path: true }"), "", HOST);
    assert_eq!(root(&made, "/in"), "0:0 2755 rw");
}

#[test]
fn mount_points_are_made_by_the_oci_runtime() {
    let made = |runtime: &str| {
        let stage = engine(runtime, "volumes: ['/srv:/a/b/c']", "", HOST);
        facts_at(&stage, &stage.actors[0], b"/a/b").and_then(|facts| facts.mode)
    };
    assert_eq!((made("docker"), made("podman")), (Some(Mode::new(0o755)), Some(Mode::new(0o1755))));
}

#[test]
fn podman_runs_added_capabilities_for_everybody() {
    let effective = |runtime: &str| {
        let stage = engine(runtime, "user: alice, cap_add: [CHOWN]", "", "");
        stage.actors[0].identity.possible[0].1.effective.to_string()
    };
    assert_eq!((effective("docker"), effective("podman")), ("none".to_owned(), "CHOWN".to_owned()));
}

/// `uid:gid groups` of a bundle's process under `runtime`.
fn bundle(runtime: &str, user: &str, more: &str) -> Stage {
    let config = format!(
        "{{ \"ociVersion\": \"1.0.2\", \"root\": {{ \"path\": \"rootfs\" }}, \"process\": {{ \"cwd\": \"/\", \"user\": {user}{more} }}, \
         \"mounts\": [ {{ \"destination\": \"/t\", \"type\": \"tmpfs\", \"source\": \"tmpfs\", \"options\": [\"mode=700\", \"nosuid\"] }} ] }}"
    );
    let scene = format!("scene: 1\nruntime: {runtime}\nworkloads: [b/config.json]\n");
    let files = [
        ("s.yaml", scene.as_str()),
        ("b/config.json", &config),
        ("b/rootfs/x", ""),
        ("b/rootfs/etc/passwd", PASSWD),
        ("b/rootfs/etc/group", GROUP),
    ];
    stage("s.yaml", &files)
}

macro_rules! bundles {
    ($($name:ident: $runtime:literal $user:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(identity(&bundle($runtime, $user, "")), $expected);
        }
    )+};
}

// docs/facts/runtimes.md 1.5
bundles! {
    no_additional_groups: "runc" r#"{ "uid": 1000, "gid": 1000 }"# => "1000:1000 ";
    runc_captures_names: "runc" r#"{ "uid": 1000, "gid": 1000, "additionalGids": [50, 50, 1000] }"# => "1000:1000 50,1000,5050";
    crun_does_not: "crun" r#"{ "uid": 1000, "gid": 1000, "additionalGids": [50, 50, 1000] }"# => "1000:1000 50,1000";
    runc_captures_one_name: "runc" r#"{ "uid": 5, "gid": 4300, "additionalGids": [4300] }"# => "5:4300 4301";
    crun_keeps_the_number: "crun" r#"{ "uid": 5, "gid": 4300, "additionalGids": [4300] }"# => "5:4300 4300";
    runc_refuses_large_ids: "runc" r#"{ "uid": 3000000000, "gid": 0 }"# => "refused: 3000000000 is out of range: runc takes ids up to 2147483647";
    crun_takes_them: "crun" r#"{ "uid": 3000000000, "gid": 0 }"# => "3000000000:0 ";
}

#[test]
fn a_process_keeps_its_umask_and_ambient_set() {
    let caps = r#", "capabilities": { "bounding": ["CAP_CHOWN"], "permitted": ["CAP_CHOWN"], "effective": ["CAP_CHOWN"]"#;
    let who = |user: &str, caps: &str| bundle("runc", user, caps).actors[0].identity.possible[0].1.clone();
    let plain = who(r#"{ "uid": 5, "gid": 5, "umask": 63 }"#, &format!("{caps} }}"));
    assert_eq!((plain.umask, plain.effective.to_string()), (Mode::new(0o077), "none".to_owned()));
    let ambient = format!("{caps}, \"inheritable\": [\"CAP_CHOWN\"], \"ambient\": [\"CAP_CHOWN\"] }}");
    assert_eq!(who(r#"{ "uid": 5, "gid": 5 }"#, &ambient).effective.to_string(), "CHOWN");
    assert_eq!(who(r#"{ "uid": 0, "gid": 0 }"#, &format!("{caps} }}")).effective.to_string(), "CHOWN");
    assert_eq!(who(r#"{ "uid": 0, "gid": 0 }"#, "").effective.to_string(), "none");
}
