//! What a source gave.

use std::io::{self, Read};
use std::sync::Arc;

use mivask_model::tree::Tree;
use serde::{Deserialize, Serialize};

/// Account files are kept up to this size.
const MOST_ACCOUNTS: u64 = 4 << 20;

/// The facts of one source.
#[derive(Debug)]
pub struct Gathered {
    /// The tree.
    pub tree: Arc<Tree>,
    /// What it could not tell.
    pub holes: Holes,
    /// The account files in it, where their content could be read; `None` for sources that tell no content.
    pub accounts: Option<AccountFiles>,
    /// What the configuration of an image says.
    pub image: Option<ImageFacts>,
    /// The absolute path that a listing gives the directory it mentions, where that is not `/`.
    pub top: Option<Vec<u8>>,
}

impl Gathered {
    /// A tree and nothing else.
    #[must_use]
    pub fn new(tree: Tree, holes: Holes) -> Self {
        Self { tree: Arc::new(tree), holes, accounts: None, image: None, top: None }
    }
}

/// What the configuration of an image says about processes.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct ImageFacts {
    /// Its USER; `None` where it has none.
    pub user: Option<String>,
    /// Its VOLUMEs.
    pub volumes: Vec<String>,
    /// Its working directory.
    pub working_directory: Option<String>,
    /// The first word of its ENTRYPOINT, which names the program.
    pub entrypoint: Option<String>,
    /// The first word of its CMD.
    pub command: Option<String>,
    /// `PATH` of its environment.
    pub search: Option<String>,
}

/// The content of `/etc/passwd` and `/etc/group`; `None` for a file that is not there.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct AccountFiles {
    /// `/etc/passwd`
    pub passwd: Option<Vec<u8>>,
    /// `/etc/group`
    pub group: Option<Vec<u8>>,
}

impl AccountFiles {
    /// Keeps the content of an account file; every other path is left alone.
    pub(crate) fn keep(&mut self, path: &[u8], content: &mut dyn Read) -> io::Result<()> {
        let path = path.strip_prefix(b"./").or(path.strip_prefix(b"/")).unwrap_or(path);
        let place = match path {
            b"etc/passwd" => &mut self.passwd,
            b"etc/group" => &mut self.group,
            _ => return Ok(()),
        };
        let mut bytes = Vec::new();
        content.take(MOST_ACCOUNTS).read_to_end(&mut bytes)?;
        *place = Some(bytes);
        Ok(())
    }
}

/// Parts of a source that stayed unknown, counted.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Holes {
    /// Entries that went away while they were looked at.
    pub vanished: u64,
    /// Entries and directories that the reader may not look at.
    pub denied: u64,
    /// Entries that could not be read for another reason.
    pub failed: u64,
    /// Directories on which another file system is mounted, which were not entered.
    pub boundaries: u64,
}

impl Holes {
    /// Whether something that belongs to the source stayed unknown; a mount boundary does not count.
    #[must_use]
    pub const fn any(&self) -> bool {
        self.vanished + self.denied + self.failed > 0
    }

    /// Both together.
    #[must_use]
    pub const fn and(self, other: Self) -> Self {
        Self {
            vanished: self.vanished + other.vanished,
            denied: self.denied + other.denied,
            failed: self.failed + other.failed,
            boundaries: self.boundaries + other.boundaries,
        }
    }
}
