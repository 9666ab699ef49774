//! What each key of a scene file becomes.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::io;
use std::path::{Path, PathBuf};

use mivask_core::act::parse_act;
use mivask_core::outcome::Errno::EACCES;
use mivask_core::prepare;
use mivask_core::question::ask;
use mivask_core::scene::Scene;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::tree::{Content, Tree};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{FileReader, Origin, read_input};

/// A scene in memory with account files beside it.
struct Memory<'a>(&'a str);

impl FileReader for Memory<'_> {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        match path.to_str() {
            Some("dir/s.yaml") => Ok(self.0.as_bytes().to_vec()),
            Some("dir/etc/passwd") => Ok(b"gauge:x:7101:7200::/:\n".to_vec()),
            Some("dir/etc/group") => Ok(b"tides:x:7200:\nlevel:x:7210:gauge\n".to_vec()),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn folder(&self, _: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        Ok(None)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

fn read(text: &str) -> (Scene, Vec<String>) {
    let mut diagnostics = Diagnostics::default();
    let scene = read_input(&Origin::of(Path::new("dir/s.yaml")), &Memory(text), &mut diagnostics).unwrap();
    (scene, diagnostics.iter().map(|diagnostic| diagnostic.message.clone()).collect())
}

/// One container with `keys`, on a volume with `entries` at `/`.
fn one(keys: &str, entries: &str) -> String {
    format!(
        "scene: 1\nimages:\n  i: {{ user: gauge, accounts: {{ passwd: etc/passwd, group: etc/group }} }}\nvolumes:\n  v:\n    \
         filesystem: ext4\n    tree:\n      - {{ path: /, kind: dir, owner: '0:0', mode: 0755 }}\n{entries}\ncontainers:\n  - \
         {{ name: x, image: i, {keys} mounts: [{{ volume: v, at: / }}] }}\n"
    )
}

fn staged(keys: &str, entries: &str) -> Stage {
    let (scene, diagnostics) = read(&one(keys, entries));
    assert_eq!(diagnostics, [""; 0]);
    prepare::stage(&scene)
}

fn identity(keys: &str) -> String {
    let stage = staged(keys, "");
    let actor = &stage.actors[0];
    if let Some(refusal) = actor.refusal() {
        return refusal.reason.clone();
    }
    let (_, who) = &actor.identity.possible[0];
    let groups: Vec<String> = who.groups.iter().map(ToString::to_string).collect();
    format!(
        "{}:{} {} umask {} caps {}",
        who.uid,
        who.gid,
        groups.join(","),
        who.umask,
        who.effective.iter().count()
    )
}

macro_rules! identities {
    ($($name:ident: $keys:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(identity($keys), $expected);
        }
    )+};
}

identities! {
    the_images_user: "" => "7101:7200 7200,7210 umask 0022 caps 0";
    a_number_with_an_account: "user: 7101," => "7101:7200 7200,7210 umask 0022 caps 0";
    a_group_part_drops_memberships: "user: 'gauge:level'," => "7101:7210 7210 umask 0022 caps 0";
    numbers_without_accounts: "user: '5:6'," => "5:6 6 umask 0022 caps 0";
    a_number_alone_is_group_0: "user: 5," => "5:0 0 umask 0022 caps 0";
    root: "user: root:0," => "no passwd line of the image has the name `root`";
    root_by_number: "user: '0:0'," => "0:0 0 umask 0022 caps 14";
    an_unknown_group: "user: 'gauge:none'," => "no group line of the image has the name `none`";
    added_groups: "user: '5:6', groups: [9, 7], filesystem-group: 8," => "5:6 6,7,8,9 umask 0022 caps 0";
    a_umask: "user: '5:6', umask: 27," => "5:6 6 umask 0027 caps 0";
    dropped_capabilities: "user: '0:0', capabilities: { drop: [ALL], add: [CHOWN] }," => "0:0 0 umask 0022 caps 1";
    exact_capabilities: "user: '5:6', effective-capabilities: [CAP_CHOWN, fowner]," => "5:6 6 umask 0022 caps 2";
    all_capabilities: "user: '5:6', effective-capabilities: all," => "5:6 6 umask 0022 caps 41";
    a_user_without_mapping: "user: '5:6', user-namespace: { uids: [0 100000 3], gids: [0 100000 9] }," => "5:6 or one of its groups has no mapping in its user namespace (users 0-2 from 100000, groups 0-8 from 100000)";
    a_user_with_mapping: "user: '5:6', user-namespace: { uids: [0 100000 9], gids: [0 100000 9] }," => "5:6 6 umask 0022 caps 0";
    privileged_root: "user: '0:0', privileged: true," => "0:0 0 umask 0022 caps 41";
}

fn tree(entries: &str) -> Tree {
    let (scene, diagnostics) = read(&one("", entries));
    assert_eq!(diagnostics, [""; 0]);
    Tree::clone(scene.volumes["v"].tree.as_ref().unwrap())
}

#[test]
fn entries_of_a_tree() {
    let tree = tree(
        "      - { path: /f, owner: '1:2', mode: 4755, acl: 'user:7:rwx', content: '#! /bin/sh -e' }
      - { path: /g, same-file-as: /f }
      - { path: /l, kind: link, owner: '1:2', target: f }
      - { path: /n, kind: block, owner: '0:6', mode: \"0660\", device: '8:1' }
      - { path: /d, kind: dir, owner: '0:0', mode: 0o1777, default-acl: 'user:7:r--', flags: [append-only] }",
    );
    let find = |path: &str| tree.find(path.as_bytes()).unwrap();
    assert_eq!(find("/f"), find("/g"), "a hard link is the same inode");
    assert_eq!(tree.inode(find("/f")).stored_mode().to_string(), "4775", "the ACL's mask is the group digit");
    assert_eq!(*tree.content(find("/f")), Content::Script(b"/bin/sh".as_slice().into()));
    assert_eq!(tree.target(find("/l")), Some(&b"f"[..]));
    assert_eq!(tree.device(find("/n")).map(|device| (device.major, device.minor)), Some((8, 1)));
    assert!(tree.default_acl(find("/d")).is_some() && tree.acl(find("/d")).is_none());
    assert!(tree.place(find("/d")).to_string().starts_with("dir/s.yaml:13:"));
}

macro_rules! mistakes {
    ($($name:ident: $from:literal => $to:literal, $message:literal;)+) => {$(
        #[test]
        fn $name() {
            let text = one("user: '5:6',", "      - { path: /f, owner: '1:2', mode: 0644 }");
            assert!(text.contains($from), "{text}");
            assert_eq!(read(&text.replacen($from, $to, 1)).1, [$message]);
        }
    )+};
}

mistakes! {
    a_relative_path: "path: /f" => "path: f", "the path is not absolute";
    a_path_with_dots: "path: /f" => "path: /x/../f", "the path is not plain: no `..`, no NUL byte, names of at most 255 bytes";
    a_path_twice: "path: /f" => "path: /", "the path is listed twice";
    an_owner_by_name: "owner: '1:2'" => "owner: root", "`root` is not a valid owner";
    a_mode_out_of_range: "mode: 0644" => "mode: 17777", "`17777` is not a valid mode";
    an_acl_by_name: "mode: 0644" => "mode: 0644, acl: 'user:gauge:r--'", "`gauge` is not a numeric id: ACLs here name ids, not accounts";
    a_link_without_target: "owner: '1:2'" => "kind: link, owner: '1:2'", "a link needs a `target`";
    a_hard_link_to_nothing: "owner: '1:2'" => "same-file-as: /none, owner: '1:2'", "this name cannot be given to that file";
    a_strange_content: "mode: 0644" => "mode: 0644, content: script", "this is not content";
    an_unmodelled_file_system: "filesystem: ext4" => "filesystem: afs", "the rules of afs are not known to this version: answers on this volume depend on it";
    an_unmodelled_option: "filesystem: ext4" => "options: [wibble, noatime, ro]", "the mount option `wibble` is not modelled for this file system, so it is ignored";
    an_option_without_its_value: "filesystem: ext4" => "filesystem: vfat\n    options: [uid=gauge]", "the mount option `uid=gauge` needs a numeric id";
    an_export_of_a_disk: "filesystem: ext4" => "filesystem: ext4\n    export: { squash: root }", "only NFS volumes are exported, so this is ignored";
    an_anonymous_user_by_name: "filesystem: ext4" => "filesystem: nfs\n    export: { anon: nobody }", "`nobody` is not an anonymous user";
    a_map_of_two_numbers: "at: /" => "at: /, id-map: { uids: [0 100000] }", "`0 100000` is not a line of an id map";
    a_map_that_overlaps: "user: '5:6'," => "user: '5:6', user-namespace: { uids: [0 1000 10, 9 2000 1], gids: [0 1000 10] },", "the line covers ids that an earlier one covers already";
    file_capabilities_nobody_knows: "mode: 0644" => "mode: 0644, capabilities: SWIM=ep", "`SWIM=ep` names no file capabilities: write NAMES=FLAGS, such as CHOWN,FOWNER=ep";
    an_unknown_runtime: "scene: 1" => "scene: 1\nruntime: dokcer", "`dokcer` is not one of containerd, containerd-1.6, cri-o, docker, podman, runc, crun";
    an_unknown_sysctl: "scene: 1" => "scene: 1\nhost: { sysctls: { kernel.pid_max: 9 } }", "`kernel.pid_max` decides nothing here, so it is ignored";
    an_unknown_capability: "user: '5:6'," => "effective-capabilities: [CHOWNS],", "Linux has no capability `CHOWNS`";
    a_umask_too_wide: "user: '5:6'," => "umask: 1777,", "`1777` is not a umask";
    an_undeclared_volume: "volume: v" => "volume: w", "volume `w` is mounted but not declared";
    a_relative_mount: "at: /" => "at: data", "a mount needs an absolute path without `..`";
    a_lost_account_file: "passwd: etc/passwd" => "passwd: etc/none", "dir/etc/none cannot be read: entity not found";
}

#[test]
fn nothing_to_run_is_a_mistake() {
    assert_eq!(read("scene: 1\n").1, ["the scene has no workload"]);
    assert_eq!(
        read("- a\n").1,
        [
            "neither a Kubernetes object, a Compose file, an OCI configuration, a scene file, an engine's command line, what it prints of a container, nor a unit of Podman's"
        ]
    );
}

/// A filesystem group given to one container reaches volumes that say so, and no others.
#[test]
fn a_filesystem_group_reaches_volumes_that_say_so() {
    let text = one("user: '5:6', filesystem-group: 8,", "      - { path: /f, owner: '1:2', mode: 0600 }");
    for (told, allowed) in [("apply", true), ("skip", false)] {
        let told = format!("filesystem: ext4\n    group-ownership: {told}");
        let (scene, diagnostics) = read(&text.replace("filesystem: ext4", &told));
        assert_eq!(diagnostics, [""; 0]);
        let answer = ask(&prepare::stage(&scene), &parse_act("x updates /f").unwrap()).unwrap();
        assert_eq!(answer.outcome == Outcome::Allowed, allowed, "{:?}", answer.outcome);
    }
}

/// Without account files a name is not refused and a number's group is not taken for 0: both stay open.
#[test]
fn untold_account_files_refuse_nobody() {
    let text = |user: &str| {
        format!(
            "scene: 1\nvolumes:\n  v:\n    tree:\n      - {{ path: /, kind: dir, owner: '0:0', mode: 0755 }}\n      - {{ path: \
             /f, owner: '0:0', mode: 0640 }}\ncontainers:\n  - {{ name: x, image: i, user: {user}, mounts: [{{ volume: v, at: \
             / }}] }}\n"
        )
    };
    let outcome = |user: &str| {
        let (scene, diagnostics) = read(&text(user));
        assert_eq!(diagnostics, [""; 0]);
        ask(&prepare::stage(&scene), &parse_act("x reads /f").unwrap()).unwrap().outcome
    };
    assert_eq!(outcome("gauge"), Outcome::Denied(Some(EACCES)), "an ordinary account, by assumption");
    assert_eq!(outcome("7101"), Outcome::Depends, "its group may be 0");
    assert_eq!(outcome("'7101:0'"), Outcome::Allowed);
    assert_eq!(outcome("'7101:5'"), Outcome::Denied(Some(EACCES)));
    assert_eq!(outcome("root"), Outcome::Allowed);
    assert_eq!(outcome("0"), Outcome::Allowed);
}
