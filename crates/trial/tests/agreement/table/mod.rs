//! The agreement table: each row is decided by the core and done on the running kernel as that identity.
//!
//! A row passes when prediction, kernel and the written expectation are the same, errno and imprint included.

macro_rules! agree {
    ($($name:ident: $sentence:literal;)+) => {
        $(#[test] fn $name() { crate::support::agree(world(), stringify!($name), $sentence); })+

        /// How many rows there are.
        pub(super) const ROWS: usize = [$(stringify!($name)),+].len();
    };
}

mod asked;
mod changes;
mod classes;
mod entries;
mod layers;
mod namespaces;
mod running;

use std::sync::OnceLock;

use mivask_core::act::Verb;
use mivask_core::stage::Stage;

use crate::support;

/// The world on a host whose settings are this machine's.
fn world() -> &'static Stage {
    static WORLD: OnceLock<Stage> = OnceLock::new();
    WORLD.get_or_init(|| support::stage("tests/agreement/worlds.yaml"))
}

const _: () = {
    let rows = asked::ROWS
        + classes::ROWS
        + entries::ROWS
        + changes::ROWS
        + running::ROWS
        + namespaces::ROWS
        + layers::ROWS;
    assert!(rows >= 400, "the table only grows");
};

/// `fs.protected_*` decide only where they are on, so these rows expect what this host's settings say.
/// `tools/agreement-settings` runs them under each setting.
#[test]
fn protected_files_and_links_follow_the_hosts_settings() {
    for sentence in [
        "root overwrites /d/sticky/mine",
        "owner extends /d/sticky/mine",
        "owner extends /d/sticky/theirs",
        "owner writes /d/sticky/theirs",
        "owner overwrites /d/sticky/hosts-own",
        "root extends /d/sticky/fifo",
        "owner overwrites /d/sticky/socket",
        "root overwrites /d/sticky/null",
        "owner overwrites /d/sticky-group/theirs",
        "root extends /d/sticky-group/fifo",
        "owner reads /d/sticky/link",
        "root reads /d/sticky/link",
        "member reads /d/sticky/link",
        "owner reads /d/sticky/hosts-link",
        "owner inspects-link /d/sticky/link",
        "owner deletes /d/sticky/link",
        "other links /d/open/f to /g/new",
        "other links /c/root-0644 to /g/new",
        "other links /c/other-0002 to /g/new",
        "other links /g/set-user-open to /g/new",
        "other links /f/null to /g/new",
        "janitor links /c/root-0600 to /g/new",
        "searcher links /d/sticky/theirs to /g/new",
    ] {
        support::agree(world(), "protected", sentence);
    }
}

/// Every verb has at least one row.
#[test]
fn no_verb_is_left_out() {
    let table = [
        include_str!("asked.rs"),
        include_str!("changes.rs"),
        include_str!("classes.rs"),
        include_str!("entries.rs"),
        include_str!("running.rs"),
    ]
    .concat();
    for verb in Verb::ALL {
        assert!(table.contains(&format!(" {} ", verb.word())), "{}", verb.word());
    }
}
