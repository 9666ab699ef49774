//! `getfacl -R` (better with `-n`, and with `-a` and `-d` for whole trees): one block a file. With `-t` its entries are a table.

use std::io::BufRead;

use mivask_model::acl::Acl;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Entry, InodeId, Tree, Unrecorded};

use super::collect::{Collector, assumed_file, named_owner, unknown_mode, unknown_owner};
use super::lines::Lines;
use super::owners::Owners;
use super::unescape::backslashes;
use crate::error::DiskError;
use crate::gathered::Gathered;

const HELP: &str = "a block begins with `# file: PATH`, as `getfacl -Rn DIR` writes them";

pub(super) fn fits(line: &[u8]) -> bool {
    line.starts_with(b"# file: ")
}

#[derive(Default)]
struct Block {
    path: Vec<u8>,
    owner: Option<Vec<u8>>,
    group: Option<Vec<u8>>,
    flags: Vec<u8>,
    access: Vec<String>,
    default: Vec<String>,
    /// A name in an entry that no one knows the number of.
    unknown: Option<Vec<u8>>,
    /// Whether its entries are a table, which leaves the special bits out.
    table: bool,
}

/// A row of a table: tag, name, and the two permissions in its last eight characters.
struct Row<'l> {
    tag: &'l str,
    name: &'l str,
    access: String,
    default: String,
}

impl<'l> Row<'l> {
    fn of(line: &'l [u8]) -> Option<Self> {
        let line = std::str::from_utf8(line).ok().filter(|line| !line.contains(':'))?;
        let (head, last) = line.split_at_checked(line.len().checked_sub(8)?)?;
        let (access, default) = (last.get(..3)?, last.get(5..)?);
        let mut words = head.split_whitespace();
        let (tag, name) = (words.next()?, words.next().unwrap_or_default());
        let known = ["USER", "user", "GROUP", "group", "mask", "other"].contains(&tag);
        // What a mask takes is written in capitals.
        let shown = |text: &str| text.trim().to_lowercase();
        known.then(|| Self { tag, name, access: shown(access), default: shown(default) })
    }
}

pub(super) fn gather(name: &str, input: &mut dyn BufRead, owners: Owners) -> Result<Gathered, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut reader = Reader { collector: Collector::new(name), owners, given: Vec::new() };
    let mut block: Option<Block> = None;
    while let Some(line) = lines.next()?.map(<[u8]>::to_vec) {
        if let Some(path) = line.strip_prefix(b"# file: ") {
            reader.put(&lines, block.take())?;
            block = Some(Block { path: backslashes(path), ..Block::default() });
            continue;
        }
        let Some(open) = &mut block else {
            if line.is_empty() {
                continue;
            }
            return Err(lines.wrong(0, "this comes before any file", Some(HELP)));
        };
        if let Some(owner) = line.strip_prefix(b"# owner: ") {
            open.owner = Some(backslashes(owner));
        } else if let Some(group) = line.strip_prefix(b"# group: ") {
            open.group = Some(backslashes(group));
        } else if let Some(flags) = line.strip_prefix(b"# flags: ") {
            open.flags = flags.to_vec();
        } else if line.is_empty() {
            reader.put(&lines, block.take())?;
        } else if let Some(row) = Row::of(&line) {
            open.table = true;
            reader.row(&lines, &row, open)?;
        } else if !line.starts_with(b"#") {
            reader.entry(&lines, &line, open)?;
        }
    }
    reader.put(&lines, block.take())?;
    reader.finish(name)
}

struct Reader {
    collector: Collector,
    owners: Owners,
    /// What was given so far, in case its kind has to be guessed.
    given: Vec<InodeId>,
}

impl Reader {
    /// `user:7102:rw-`, `default:mask::r--`, with a comment behind it or not.
    fn entry(&self, lines: &Lines<'_>, line: &[u8], block: &mut Block) -> Result<(), DiskError> {
        let wrong = || lines.wrong(0, "this is not an entry of an ACL", Some(HELP));
        let end = line.iter().position(|byte| matches!(byte, b'\t' | b'#' | b' ')).unwrap_or(line.len());
        let entry = &line[..end];
        let (default, entry) = match entry.strip_prefix(b"default:") {
            Some(entry) => (true, entry),
            None => (false, entry),
        };
        let fields: Vec<&[u8]> = entry.split(|byte| *byte == b':').collect();
        let [tag, who, access] = fields.as_slice() else { return Err(wrong()) };
        let (Ok(tag), Ok(access)) = (std::str::from_utf8(tag), std::str::from_utf8(access)) else {
            return Err(wrong());
        };
        let who = backslashes(who);
        let number = match (who.is_empty(), tag) {
            (true, _) => String::new(),
            (false, "user") => self.owners.uid(&who).map(|id| id.to_string()).unwrap_or_default(),
            (false, _) => self.owners.gid(&who).map(|id| id.to_string()).unwrap_or_default(),
        };
        if !who.is_empty() && number.is_empty() {
            block.unknown = Some(who);
            return Ok(());
        }
        let text = format!("{tag}:{number}:{access}");
        if Acl::parse(&text, Mode::default()).is_err() {
            return Err(wrong());
        }
        if default {
            block.default.push(text)
        } else {
            block.access.push(text)
        }
        Ok(())
    }

    /// The same from a row of a table.
    fn row(&self, lines: &Lines<'_>, row: &Row<'_>, block: &mut Block) -> Result<(), DiskError> {
        let name = row.name.as_bytes();
        let who = match row.tag {
            "USER" => {
                block.owner = Some(backslashes(name));
                ""
            }
            "GROUP" => {
                block.group = Some(backslashes(name));
                ""
            }
            _ => row.name,
        };
        let tag = row.tag.to_lowercase();
        for (kind, permissions) in [("", &row.access), ("default:", &row.default)] {
            if !permissions.is_empty() {
                self.entry(lines, format!("{kind}{tag}:{who}:{permissions}").as_bytes(), block)?;
            }
        }
        Ok(())
    }

    fn put(&mut self, lines: &Lines<'_>, block: Option<Block>) -> Result<(), DiskError> {
        let Some(block) = block else { return Ok(()) };
        let parse = |entries: &[String]| match entries {
            [] => Ok(None),
            entries => Acl::parse(&entries.join(","), Mode::default()).map(Some),
        };
        let wrong = |error: mivask_model::acl::AclError| lines.wrong(0, error.to_string(), Some(HELP));
        let access = parse(&block.access).map_err(wrong)?;
        let default = parse(&block.default).map_err(wrong)?;
        let special = special(&block.flags);
        let bits = access.as_ref().map_or(Mode::default(), |acl| acl.applied_to(special));
        let shown = mivask_model::act::quoted(&block.path).to_string();
        let owner = block.owner.as_deref().and_then(|name| self.owners.uid(name));
        let group = block.group.as_deref().and_then(|name| self.owners.gid(name));
        // Which is a directory shows by what is in it or would be inherited.
        let first = !self.collector.grower.root_told && self.given.is_empty();
        let directory = default.is_some() || block.path.ends_with(b"/") || first;
        let kind = if directory { FileKind::Directory } else { FileKind::File };
        let mut entry = Entry::new(kind, owner.unwrap_or(0), group.unwrap_or(0), bits);
        entry.extended.access = access;
        entry.extended.default = default;
        let settle = "write numbers with -n, or put the host's passwd and group files beside the listing";
        if let Some(name) = &block.unknown {
            let fact =
                format!("the number of {}, which the ACL of {shown} names", mivask_model::act::quoted(name));
            unknown_mode(&mut entry, &fact, settle);
        } else if block.access.is_empty() {
            unknown_mode(&mut entry, &format!("the mode of {shown}"), "write access ACLs too: not only -d");
        }
        if block.table {
            let assumed = format!("{shown} has no set-id and no sticky bit, which getfacl -t leaves out");
            let before = entry.doubt.take().unwrap_or_default();
            let mode = if before.mode == Certainty::Known {
                Certainty::Assumed(assumed.into())
            } else {
                before.mode
            };
            entry.doubt = Some(mivask_model::tree::Doubt { mode, ..before });
        }
        if owner.is_none() || group.is_none() {
            let fact = format!("owner and group of {shown}");
            match (block.owner.as_deref(), block.group.as_deref()) {
                (Some(user), Some(of)) => {
                    let names = (owner.is_none().then_some(user), group.is_none().then_some(of));
                    named_owner(&mut entry, names, &fact, settle);
                }
                (_, _) => unknown_owner(&mut entry, &fact, settle),
            }
        }
        if !directory {
            assumed_file(&mut entry, &shown, "getfacl does not tell files and empty directories apart");
        }
        let path = self.collector.below(lines, &block.path, kind)?;
        entry.line = u32::try_from(lines.number).unwrap_or(0);
        let id = self.collector.grower.put_below(&path, entry).map_err(|what| lines.wrong(0, what, None))?;
        self.given.push(id);
        Ok(())
    }

    fn finish(mut self, name: &str) -> Result<Gathered, DiskError> {
        let tree = &mut self.collector.grower.tree;
        for id in std::mem::take(&mut self.given) {
            let empty = tree.child_count(id) == 0 && tree.inode(id).kind == FileKind::Directory;
            if empty && id != Tree::ROOT {
                let fact = format!("what is in the directories that {name} does not list");
                let unknown = mivask_model::fact::Unknown::new(&fact, "write the whole tree with getfacl -R");
                tree.doubt_contents(id, Certainty::Unknown(unknown));
            }
        }
        self.collector.finish(name, Unrecorded::but_acls("getfacl does not show that"))
    }
}

/// `-s-`, `--t`, `sst`: set-user-id, set-group-id, sticky.
fn special(flags: &[u8]) -> Mode {
    let bits = [0o4000, 0o2000, 0o1000];
    let set = flags.iter().zip(bits).filter(|(flag, _)| matches!(flag, b's' | b't')).map(|(_, bit)| bit);
    Mode::new(set.sum())
}
