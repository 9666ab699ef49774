//! A survey that is made while its directory is read is the one that is made of the whole tree.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;

use mivask_disk::live::Options;
use mivask_disk::{source, survey};
use mivask_model::tree::Tree;
use mivask_model::xattr;
use rustix::fs::XattrFlags;

use fixtures::{is_root, listing, missing};

/// Directories with links, further names, what may not be looked into, and more entries than one frame has.
fn everything(root: &Path) {
    for name in ["a/deep/deeper", "a/empty", "b", "left-out/secret", "z"] {
        fs::create_dir_all(root.join(name)).unwrap();
    }
    for number in 0..4_000 {
        fs::write(root.join(format!("b/{number:05}-{}", "measured".repeat(24))), "").unwrap();
    }
    for (name, mode) in
        [("a/one", 0o644), ("a/deep/two", 0o600), ("a/deep/deeper/three", 0o751), ("z/last", 0o4755)]
    {
        fs::write(root.join(name), "#!/bin/sh\n").unwrap();
        fs::set_permissions(root.join(name), fs::Permissions::from_mode(mode)).unwrap();
    }
    fs::hard_link(root.join("a/one"), root.join("z/again")).unwrap();
    symlink("../a/one", root.join("z/link")).unwrap();
}

/// Both surveys of `root`, and the tree.
fn both(root: &Path, sizes: bool) -> (Vec<u8>, Vec<u8>, std::sync::Arc<Tree>) {
    let options = Options { sizes, leave_out: vec![b"left-out".to_vec()], ..Options::default() };
    let (gathered, recorded) = source::gather_recorded(root, &options, &|_| ()).unwrap();
    let (mut meanwhile, mut afterwards) = (Vec::new(), Vec::new());
    recorded.write(&mut meanwhile, &gathered, "source").unwrap();
    survey::record(&mut afterwards, &gathered, "source").unwrap();
    (meanwhile, afterwards, gathered.tree)
}

#[test]
fn a_survey_made_meanwhile_is_the_one_made_afterwards() {
    let folder = tempfile::tempdir().unwrap();
    everything(folder.path());
    for sizes in [false, true] {
        let (meanwhile, afterwards, tree) = both(folder.path(), sizes);
        assert_eq!(meanwhile, afterwards, "sizes: {sizes}");
        let read = survey::read(&mut &meanwhile[..], "source", None).unwrap().tree;
        assert_eq!(listing(&read), listing(&tree));
        assert_eq!(missing(&read, "left-out"), missing(&tree, "left-out"));
        assert!(missing(&read, "left-out").is_some_and(|fact| fact.contains("left out")));
        assert_eq!(read.has_sizes(), sizes);
    }
}

#[test]
fn a_label_that_comes_late_is_recorded() {
    if !is_root() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    everything(folder.path());
    let label = "system_u:object_r:container_file_t:s0";
    let last = folder.path().join("z/last");
    if let Err(error) = rustix::fs::lsetxattr(&last, xattr::LABEL, label.as_bytes(), XattrFlags::empty()) {
        println!("skipped: a_label_that_comes_late_is_recorded: no labels can be set here: {error}");
        return;
    }
    let (meanwhile, afterwards, _) = both(folder.path(), true);
    assert_eq!(meanwhile, afterwards);
    assert!(meanwhile.starts_with(survey::MAGIC_LABELLED));
    let read = survey::read(&mut &meanwhile[..], "source", None).unwrap().tree;
    let labelled = read.extended(fixtures::find(&read, "z/last")).and_then(|found| found.label.clone());
    assert_eq!(labelled.as_deref(), Some(label));
}
