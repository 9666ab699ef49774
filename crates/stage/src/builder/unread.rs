//! What a command that is not understood may have done, and how far it can have reached.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, InodeId, Spot, Tree};

use super::account_change::changes_accounts;
use super::done::bare;
use super::ground::BuildState;
use crate::recipe::BuildStep;

/// Where packages of a system put their files (Filesystem Hierarchy Standard 3.0, sections 3 to 5).
const SYSTEM: [&str; 14] = [
    "/bin", "/boot", "/etc", "/lib", "/lib32", "/lib64", "/libx32", "/opt", "/run", "/sbin", "/srv", "/tmp",
    "/usr", "/var",
];
/// Homes, where other tools leave things besides.
const HOMES: [&str; 2] = ["/home", "/root"];
/// Tools that install packages of the system, and nothing where they are called.
const PACKAGES: [&str; 13] = [
    "apk",
    "apt",
    "apt-get",
    "aptitude",
    "dnf",
    "dpkg",
    "microdnf",
    "pacman",
    "rpm",
    "tdnf",
    "yum",
    "zypper",
    "update-ca-certificates",
];

impl BuildState<'_> {
    /// Something that is not understood may have added files and accounts, and changed what it names.
    pub(super) fn not_understood(&mut self, tool: Option<&str>, names: &[Vec<u8>], step: &BuildStep) {
        let settle = "give `accounts` or `tree` for the built image in a scene file";
        let unknown = |what: &str| Unknown::new(&format!("{what} {}", step.words), settle);
        if changes_accounts(&step.words, names) {
            self.forget_accounts(unknown("what becomes of the accounts in"));
        }
        self.may_have_more_accounts(unknown("which accounts are added by"));
        let reach = Reach::of(tool.map(bare), &self.absolute(b"."));
        let text: Arc<str> = format!(
            "{} changes and removes nothing that was there, and adds nothing outside {}, except what it names",
            step.words, reach.words
        )
        .into();
        let reached = reach.inodes(&self.tree);
        let adds = unknown("which files are added by");
        for id in self.tree.ids().collect::<Vec<_>>() {
            let doubt = self.tree.doubt(id).cloned().unwrap_or_default();
            if doubt.knows_attributes() {
                self.tree.doubt_attributes(id, Certainty::Assumed(text.clone()));
            }
            let listed = !matches!(doubt.contents, Certainty::Unknown(_));
            if listed && self.tree.inode(id).kind == FileKind::Directory {
                if reached.contains(&id) {
                    self.may_hold_more(id, &adds);
                } else if doubt.contents == Certainty::Known {
                    self.tree.doubt_contents(id, Certainty::Assumed(text.clone()));
                }
            }
        }
        let named: Vec<Vec<u8>> = names
            .iter()
            .filter(|name| name.contains(&b'/') && !name.contains(&b'*'))
            .map(|name| self.absolute(name))
            .filter(|path| path.iter().any(|byte| !matches!(byte, b'/' | b'.')))
            .collect();
        for path in named {
            let what = format!("what becomes of {} in", quoted(&path));
            self.touched(&path, &unknown(&what));
        }
    }
}

/// Where a command may add files that it does not name.
struct Reach {
    /// Directories with everything below them.
    whole: Vec<Vec<u8>>,
    /// Whether the root directory itself may get entries.
    root: bool,
    /// The same for people.
    words: String,
}

impl Reach {
    /// `here` is where it runs.
    fn of(tool: Option<&str>, here: &[u8]) -> Self {
        let paths = |list: &[&str]| list.iter().map(|path| path.as_bytes().to_vec()).collect::<Vec<_>>();
        let mut whole = paths(&SYSTEM);
        if tool.is_some_and(|tool| PACKAGES.contains(&tool)) {
            return Self {
                whole,
                root: false,
                words: "the directories of the system's packages (/etc, /usr, /var and the like)".to_owned(),
            };
        }
        whole.extend(paths(&HOMES));
        let root = here.iter().all(|byte| matches!(byte, b'/' | b'.'));
        let shown = mivask_model::path::cleaned(here);
        let words = format!("its directory {}, homes and the directories of the system", quoted(&shown));
        if !root {
            whole.push(here.to_vec());
        }
        Self { whole, root, words }
    }

    /// The directories that may hold more.
    fn inodes(&self, tree: &Tree) -> BTreeSet<InodeId> {
        let mut all = BTreeSet::new();
        if self.root {
            all.insert(Tree::ROOT);
        }
        for path in &self.whole {
            match tree.resolve(path, true) {
                Spot::There(id) => all.extend(tree.below(id)),
                // It may be made.
                Spot::Missing { dir, .. } | Spot::Unlisted { dir, .. } => {
                    all.insert(dir);
                }
                Spot::Nowhere(_) => {}
            }
        }
        all
    }
}
