//! File systems that no kernel here has: each rule of their personality, as acts with expectations.
//!
//! Their sources are named in `mivask_core::personality`; the rows that a kernel can be asked about are in the
//! agreement table of `mivask-trial`.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use mivask_core::act::parse_act;
use mivask_core::prepare;
use mivask_core::question::ask;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// A scene with one volume at `/v` and the usual actors.
fn stage(volume: &str) -> Stage {
    let text = format!(
        "scene: 1
host: {{ sysctls: {{ fs.protected_symlinks: 1, fs.protected_hardlinks: 1, fs.protected_regular: 1, fs.protected_fifos: 1 }} }}
volumes:
  root: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}, {{ path: /v, kind: dir, owner: '0:0', mode: 0755 }}] }}
  v: {volume}
containers:
  - &gauge {{ name: gauge, user: '7101:7200', mounts: [{{ volume: root, at: / }}, {{ volume: v, at: /v }}] }}
  - {{ <<: *gauge, name: press, user: '7102:7200' }}
  - {{ <<: *gauge, name: herald, user: '7900:7900' }}
  - {{ <<: *gauge, name: crowd, user: '7103:7103', groups: [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 7200] }}
  - {{ <<: *gauge, name: root, user: '0:0', effective-capabilities: all }}
"
    );
    let source = SourceText::new("scene.yaml", &text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics);
    assert!(
        diagnostics.is_empty(),
        "{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    prepare::stage(&scene.unwrap())
}

/// Holds each act against its expectation; `-> depends` is allowed too.
fn hold(volume: &str, acts: &[&str]) {
    let stage = stage(volume);
    for sentence in acts {
        let (act, depends) = match sentence.strip_suffix(" -> depends") {
            Some(act) => (act, true),
            None => (*sentence, false),
        };
        let answer = ask(&stage, &parse_act(act).unwrap()).unwrap();
        let holds = if depends { Some(answer.outcome == Outcome::Depends) } else { answer.holds() };
        assert_eq!(
            holds,
            Some(true),
            "{sentence}: {:?} {:?} {:#?}",
            answer.outcome,
            answer.effect,
            answer.depends_on
        );
    }
}

const TREE: &str = "tree: [{ path: /, kind: dir, owner: '7101:7200', mode: 0770 }, \
    { path: /mine, owner: '7101:7200', mode: 0640 }, { path: /roots, owner: '0:0', mode: 0600 }, \
    { path: /set-user, owner: '7101:7200', mode: 4755 }, { path: /open, kind: dir, owner: '0:0', mode: 0777 }]";

#[test]
fn a_fat_stick_shows_one_owner_for_everything() {
    hold(
        "{ filesystem: vfat, options: ['uid=7101', 'gid=7200', 'umask=0027'] }",
        &[
            "gauge writes /v/level.csv -> depends",
            "press lists /v -> allowed",
            "press creates /v/new -> denied",
            "herald enters /v -> denied EACCES",
            "herald reads /v/level.csv -> denied EACCES",
            "root sets-owner 7102 on /v/level.csv -> denied",
            "root sets-owner 7101 on /v/level.csv -> depends",
        ],
    );
    let listed = format!("{{ filesystem: vfat, options: ['uid=7101', 'gid=7200', 'umask=0027'], {TREE} }}");
    hold(
        &listed,
        &[
            "gauge writes /v/roots -> allowed",
            "press reads /v/mine -> allowed",
            "press writes /v/mine -> denied EACCES",
            "gauge creates /v/new mode 0600 -> leaves 7101:7200 0750",
            "gauge makes-directory /v/new mode 0700 -> leaves 7101:7200 0750",
            "gauge points /v/new at x -> denied EPERM",
            "gauge links /v/mine to /v/new -> denied EPERM",
            "gauge makes-fifo /v/new -> denied EPERM",
            "gauge sets-owner 7101 on /v/mine -> leaves 7101:7200 0750",
            "root sets-owner 7102 on /v/mine -> denied EPERM",
            "gauge sets-mode 0640 on /v/mine -> leaves 7101:7200 0750",
            "gauge sets-mode 0550 on /v/mine -> leaves 7101:7200 0550",
            "gauge sets-mode 4755 on /v/mine -> denied EPERM",
            "gauge sets-acl user:7102:rw- on /v/mine -> denied EOPNOTSUPP",
            "gauge tags /v/mine with user.note -> denied EOPNOTSUPP",
            "press backdates /v/mine -> denied EPERM",
            "gauge renames /v/mine to /v/new -> allowed",
        ],
    );
}

#[test]
fn a_fat_stick_may_be_quiet_and_let_others_set_times() {
    let volume = format!(
        "{{ filesystem: vfat, options: [quiet, 'allow_utime=0020', 'gid=7200', 'dmask=0000', 'fmask=0000'], {TREE} }}"
    );
    hold(
        &volume,
        &[
            "root sets-owner 7102 on /v/mine -> allowed",
            "press backdates /v/mine -> allowed",
            "herald backdates /v/mine -> denied EPERM",
        ],
    );
}

#[test]
fn ntfs_may_keep_linux_owners_or_not() {
    let volume = format!("{{ filesystem: ntfs3, options: ['uid=7101', 'umask=0077'], {TREE} }}");
    hold(
        &volume,
        &[
            "gauge writes /v/roots -> allowed",
            "press reads /v/mine -> denied EACCES",
            "gauge sets-mode 0640 on /v/mine -> depends",
        ],
    );
}

#[test]
fn an_smb_server_has_the_last_word() {
    let volume = format!(
        "{{ filesystem: cifs, options: ['uid=7101', 'gid=7200', 'file_mode=0640', 'dir_mode=0750'], {TREE} }}"
    );
    hold(
        &volume,
        &[
            "herald reads /v/mine -> denied EACCES",
            "press writes /v/mine -> denied EACCES",
            "gauge writes /v/roots -> depends",
            "root reads /v/mine -> depends",
        ],
    );
    let unchecked =
        format!("{{ filesystem: cifs, options: ['uid=7101', 'file_mode=0600', noperm], {TREE} }}");
    hold(&unchecked, &["herald reads /v/mine -> depends"]);
}

#[test]
fn nfs_replaces_root_unless_told() {
    let squashed = format!("{{ filesystem: nfs, export: {{ squash: root, anon: '65534:65534' }}, {TREE} }}");
    hold(
        &squashed,
        &[
            "root reads /v/mine -> denied EACCES",
            "root lists /v -> denied EACCES",
            "gauge writes /v/mine -> allowed",
            "gauge reads /v/roots -> denied EACCES",
            "gauge creates /v/new -> leaves 7101:7200 0644",
            "press deletes /v/mine -> allowed",
            "gauge sets-owner 7102 on /v/mine -> denied EPERM",
            "gauge sets-acl user:7102:rw- on /v/mine -> denied EOPNOTSUPP",
        ],
    );
    // What is exported is NFS, whether the scene says so or the volume of the claim.
    let exported = format!("{{ export: {{ squash: root }}, {TREE} }}");
    hold(&exported, &["root reads /v/mine -> denied EACCES", "root lists /v -> denied EACCES"]);
    let trusting = format!("{{ filesystem: nfs4, export: {{ squash: none }}, {TREE} }}");
    hold(
        &trusting,
        &[
            "root reads /v/roots -> allowed",
            "root sets-owner 7102 on /v/mine -> leaves 7102:7200 0640",
            "root creates /v/new -> leaves 0:0 0644",
        ],
    );
    let everybody = format!("{{ filesystem: nfs, export: {{ squash: all, anon: '7101:7200' }}, {TREE} }}");
    hold(
        &everybody,
        &[
            "herald writes /v/mine -> allowed",
            "herald creates /v/new -> leaves 7101:7200 0644",
            "root creates /v/new -> leaves 7101:7200 0644",
        ],
    );
    let untold = format!("{{ filesystem: nfs, {TREE} }}");
    hold(&untold, &["root reads /v/mine -> depends", "gauge sets-mode 0600 on /v/mine -> depends"]);
}

#[test]
fn nfs_carries_sixteen_groups() {
    let volume = format!("{{ filesystem: nfs, export: {{ squash: root }}, {TREE} }}");
    hold(&volume, &["crowd lists /v -> denied EACCES"]);
    hold(&format!("{{ filesystem: ext4, {TREE} }}"), &["crowd lists /v -> allowed"]);
}

#[test]
fn fuse_lets_in_its_mounter_alone_unless_told() {
    let private = format!(
        "{{ filesystem: fuse, options: ['user_id=7101', 'group_id=7200', default_permissions], {TREE} }}"
    );
    hold(
        &private,
        &[
            "gauge writes /v/mine -> allowed",
            "gauge reads /v/roots -> denied EACCES",
            "root reads /v/mine -> denied EACCES",
            "root inspects /v -> denied EACCES",
            "press enters /v -> denied EACCES",
        ],
    );
    let shared = format!("{{ filesystem: fuse.stash, options: [allow_other, default_permissions], {TREE} }}");
    hold(
        &shared,
        &[
            "press reads /v/mine -> allowed",
            "herald reads /v/mine -> denied EACCES",
            "root reads /v/roots -> allowed",
        ],
    );
    let undecided = format!("{{ filesystem: fuse, options: [allow_other], {TREE} }}");
    hold(&undecided, &["gauge writes /v/mine -> depends", "root reads /v/roots -> depends"]);
}

#[test]
fn a_share_of_the_host_is_checked_here_and_there() {
    let volume = format!("{{ filesystem: virtiofs, {TREE} }}");
    hold(&volume, &["herald reads /v/mine -> denied EACCES", "gauge reads /v/mine -> depends"]);
}

/// FUSE passes every name on to its program, and servers have `system.` names of their own; the rest keeps three prefixes.
#[test]
fn some_file_systems_keep_attributes_of_other_names() {
    let shared = format!("{{ filesystem: fuse.stash, options: [allow_other, default_permissions], {TREE} }}");
    hold(
        &shared,
        &["gauge reads-tag /v/mine of odd.note -> depends", "gauge tags /v/mine with odd.note -> depends"],
    );
    for filesystem in ["nfs4", "cifs", "ntfs3"] {
        let volume = format!("{{ filesystem: {filesystem}, {TREE} }}");
        hold(&volume, &["root reads-tag /v/mine of system.note -> depends"]);
    }
    let native = format!("{{ filesystem: ext4, {TREE} }}");
    hold(
        &native,
        &[
            "gauge reads-tag /v/mine of odd.note -> denied EOPNOTSUPP",
            "gauge tags /v/mine with system.note -> denied EOPNOTSUPP",
        ],
    );
}

#[test]
fn an_image_file_system_takes_no_write() {
    let volume = format!("{{ filesystem: squashfs, {TREE} }}");
    hold(&volume, &["root writes /v/mine -> denied EROFS", "gauge reads /v/mine -> allowed"]);
}

#[test]
fn a_new_tmpfs_has_the_root_its_options_say() {
    hold(
        "{ filesystem: tmpfs, options: ['mode=0750', 'uid=7101', 'gid=7200'] }",
        &[
            "gauge creates /v/new -> leaves 7101:7200 0644",
            "press lists /v -> allowed",
            "press creates /v/new -> denied EACCES",
            "gauge reads /v/old -> denied ENOENT",
        ],
    );
    hold("{ filesystem: tmpfs }", &["herald creates /v/new -> leaves 7900:7900 0644"]);
}
