//! What every verb says where facts are missing: each possibility, and never a guess.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use mivask_core::act::parse_act;
use mivask_core::mode::Mode;
use mivask_core::prepare;
use mivask_core::question::{Answer, Cell, Column, ask, sweep};
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// `/told` is known whole, `/owned` has a file of unknown owner, one of unknown mode and a directory of neither,
/// `/open` may hold more than is listed.
const SCENE: &str = "\
scene: 1
volumes:
  v:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /told, kind: dir, owner: '7101:7200', mode: 0755 }
      - { path: /told/mine, owner: '7101:7200', mode: 0644 }
      - { path: /owned, kind: dir, owner: '7101:7200', mode: 0755 }
      - { path: /owned/whose, mode: 0640 }
      - { path: /owned/how, owner: '7101:7200' }
      - { path: /owned/dir, kind: dir }
      - { path: /sticky, kind: dir, owner: '0:0', mode: 1777 }
      - { path: /sticky/whose, mode: 0640 }
      - { path: /open/f, owner: '7101:7200', mode: 0600 }
containers:
  - &gauge { name: gauge, user: '7101:7200', mounts: [{ volume: v, at: / }] }
  - { <<: *gauge, name: root, user: '0:0', effective-capabilities: all }
";

fn stage() -> Stage {
    let source = SourceText::new("scene.yaml", SCENE);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics).unwrap();
    assert!(
        diagnostics.is_empty(),
        "{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    prepare::stage(&scene)
}

/// `allowed`, `denied EACCES`, or every possible ending in the order it was tried.
fn endings(answer: &Answer) -> String {
    let mut words: Vec<String> = answer
        .depends_on
        .iter()
        .map(|one| one.end.errno().map_or_else(|| one.end.word().to_owned(), |errno| errno.to_string()))
        .collect();
    words.dedup();
    match words.is_empty() {
        true => {
            answer.outcome.errno().map_or_else(|| answer.outcome.word().to_owned(), |errno| errno.to_string())
        }
        false => words.join("|"),
    }
}

macro_rules! untold {
    ($($name:ident: $act:literal => $endings:literal;)+) => {$(
        #[test]
        fn $name() {
            let answer = ask(&stage(), &parse_act($act).unwrap()).unwrap();
            assert_eq!(endings(&answer), $endings, "{:#?}", answer.depends_on);
        }
    )+};
}

untold! {
    reading_a_file_of_unknown_owner: "gauge reads /owned/whose" => "allowed|EACCES";
    root_reads_whoever_owns_it: "root reads /owned/whose" => "allowed";
    root_runs_only_with_some_x_bit: "root runs /owned/how" => "allowed|EACCES";
    an_unknown_mode_of_ones_own: "gauge writes /owned/how" => "allowed|EACCES";
    its_name_can_go_all_the_same: "gauge deletes /owned/whose" => "allowed";
    a_sticky_directory_asks_for_the_owner: "gauge deletes /sticky/whose" => "allowed|EPERM";
    root_takes_anything_from_it: "root deletes /sticky/whose" => "allowed";
    setting_a_mode_takes_the_owner: "gauge sets-mode 0600 on /owned/whose" => "allowed|EPERM";
    root_sets_any_mode: "root sets-mode 0600 on /owned/whose" => "allowed";
    setting_an_acl_takes_the_owner: "gauge sets-acl user:7102:rw- on /owned/whose" => "allowed|EPERM";
    giving_it_away_takes_chown: "gauge sets-owner 7102 on /owned/whose" => "EPERM";
    giving_it_to_ones_group_takes_the_owner: "gauge sets-group 7200 on /owned/whose" => "allowed|EPERM";
    giving_it_to_a_group_that_may_be_its_own: "gauge sets-group 7300 on /owned/whose" => "allowed|EPERM";
    root_gives_it_to_anybody: "root sets-owner 7102:7300 on /owned/whose" => "allowed";
    naming_nobody_changes_nothing: "gauge sets-owner : on /owned/whose" => "allowed";
    stamping_takes_the_owner_or_w: "gauge stamps /owned/whose" => "allowed|EACCES";
    backdating_takes_the_owner: "gauge backdates /owned/whose" => "allowed|EPERM";
    tagging_takes_w: "gauge tags /owned/whose with user.note" => "allowed|EACCES";
    trusted_tags_take_a_capability_whoever_owns_it: "gauge tags /owned/whose with trusted.note" => "EPERM";
    shortening_takes_w: "gauge shortens /owned/whose" => "allowed|EACCES";
    creating_in_a_directory_of_neither: "gauge creates /owned/dir/new" => "allowed|EACCES";
    pointing_in_it: "gauge points /owned/dir/new at x" => "allowed|EACCES";
    a_fifo_in_it: "gauge makes-fifo /owned/dir/new" => "allowed|EACCES";
    a_device_in_it_takes_mknod: "gauge makes-node /owned/dir/new" => "EPERM|EACCES";
    what_nobody_listed: "gauge reads /open/other" => "allowed|EACCES|ENOENT";
    creating_where_something_may_be: "root creates /open/other" => "EEXIST|allowed";
    moving_what_may_not_be_there: "root renames /open/other to /told/new" => "allowed|ENOENT";
    moving_onto_what_may_be_there: "root renames /told/mine to /open/other" => "allowed";
    a_set_of_links_is_never_guessed: "root links /told/mine to /open/other" => "EEXIST|allowed";
    hard_links_hang_on_the_hosts_settings: "gauge links /owned/whose to /told/new" => "allowed|EPERM|allowed";
    removing_what_may_be_full: "root removes-directory /open" => "ENOTEMPTY";
}

/// What is left of an inode of unknown owner is unknown too; nothing is made up.
#[test]
fn what_is_left_is_unknown_where_the_owner_was() {
    let left = |act: &str| ask(&stage(), &parse_act(act).unwrap()).unwrap().effect.imprint.unwrap();
    let changed = left("root sets-mode 0600 on /owned/whose");
    assert_eq!((changed.uid, changed.gid, changed.mode), (None, None, Some(Mode::new(0o600))));
    let made = left("root creates /owned/dir/new");
    assert_eq!((made.uid.map(|uid| uid.raw()), made.gid, made.mode), (Some(0), None, None));
    let known = left("root sets-mode 0600 on /told/mine");
    assert_eq!(known.mode.map(|mode| mode.to_string()).as_deref(), Some("0600"));
}

/// A sweep marks what depends on missing facts, and guesses none.
#[test]
fn a_sweep_leaves_cells_open() {
    let stage = stage();
    let mut cells = std::collections::BTreeMap::new();
    sweep(&stage, &stage.actors[0], b"/owned/", |swept| {
        cells.insert(
            String::from_utf8_lossy(swept.path).into_owned(),
            (swept.cell(Column::Read), swept.cell(Column::Delete), swept.cell(Column::Create)),
        );
    })
    .unwrap();
    assert_eq!(cells["/owned/whose"], (Cell::Open, Cell::Allowed, Cell::Void));
    assert_eq!(cells["/owned/how"].0, Cell::Open);
    assert_eq!(cells["/owned/dir"].2, Cell::Open);
    let mut count = 0;
    sweep(&stage, &stage.actors[1], b"/", |_| count += 1).unwrap();
    assert_eq!(count, 10, "everything below the root, once");
    assert!(sweep(&stage, &stage.actors[0], b"/none", |_| ()).is_err());
}
