//! `ls -ln`, `ls -lnR` and what else people paste of a long listing, with `-i`, `-s` and `-Z` too, and `find -ls`, which writes the same
//! with whole paths; owners by name need account files beside it.

use std::collections::BTreeSet;
use std::io::BufRead;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Device, Doubt, Entry, InodeId, Tree, Unrecorded};
use mivask_model::xattr;

use super::collect::{Collector, named_owner, top, unknown_contents, unknown_mode};
use super::lines::Lines;
use super::owners::Owners;
use super::unescape::{backslashes, shell_quoted};
use super::{kind_of_letter, number};
use crate::error::DiskError;
use crate::gathered::Gathered;

const HELP: &str =
    "each line is MODE LINKS OWNER GROUP SIZE DATE NAME, as `ls -lan` and `ls -lanR` write them";

pub(super) fn fits(line: &[u8]) -> bool {
    is_total(line) || (Words { rest: line }).letters().is_some()
}

fn is_total(line: &[u8]) -> bool {
    line.strip_prefix(b"total ").is_some_and(|rest| rest.first().is_some_and(u8::is_ascii_digit))
}

/// Kind, bits, and whether there is an ACL behind them.
fn letters(word: &[u8]) -> Option<(FileKind, mivask_model::mode::Mode, bool)> {
    let (first, rest) = word.split_first()?;
    let (nine, mark) = rest.split_at_checked(9)?;
    let acl = match mark {
        b"" | b"." | b"@" => false,
        b"+" => true,
        _ => return None,
    };
    // ls writes `-` for what find writes as `f`.
    if *first == b'f' {
        return None;
    }
    Some((kind_of_letter(*first)?, mivask_model::mode::Mode::of_letters(nine)?, acl))
}

pub(super) fn gather(name: &str, input: &mut dyn BufRead, owners: Owners) -> Result<Gathered, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut reader = Reader {
        collector: Collector::new(name).rooted(),
        owners,
        root: None,
        section: Vec::new(),
        listed: BTreeSet::new(),
        dotted: BTreeSet::new(),
        found: None,
        blank: true,
        any: false,
    };
    while let Some(line) = lines.next()?.map(<[u8]>::to_vec) {
        reader.line(&lines, &line)?;
    }
    reader.finish(name)
}

struct Reader {
    collector: Collector,
    owners: Owners,
    /// The directory of the first section, from which others are given.
    root: Option<Vec<u8>>,
    /// The directory whose entries come, as a path of the tree.
    section: Vec<u8>,
    /// Directories that were listed.
    listed: BTreeSet<InodeId>,
    /// Those of them that were listed with names that begin with a dot.
    dotted: BTreeSet<InodeId>,
    /// Where `find -ls` began, as long as every line may be one of its; not set before the first.
    found: Option<Option<Vec<u8>>>,
    /// Whether the last line was blank, or there was none.
    blank: bool,
    any: bool,
}

impl Reader {
    fn line(&mut self, lines: &Lines<'_>, line: &[u8]) -> Result<(), DiskError> {
        let blank = std::mem::replace(&mut self.blank, line.is_empty());
        if line.is_empty() {
            return Ok(());
        }
        if is_total(line) {
            let dir = self.directory(lines)?;
            self.listed.insert(dir);
            return Ok(());
        }
        if let Some(row) = self.row(line) {
            self.any = true;
            return self.put(lines, row);
        }
        match line.strip_suffix(b":") {
            Some(path) if blank => self.section(lines, path),
            Some(_) | None => Err(lines.wrong(0, "this is not a line of a long listing", Some(HELP))),
        }
    }

    /// `PATH:` begins the entries of a directory.
    fn section(&mut self, lines: &Lines<'_>, path: &[u8]) -> Result<(), DiskError> {
        let path = shell_quoted(path).unwrap_or_else(|| path.to_vec());
        let root = self.root.get_or_insert_with(|| path.clone());
        let below = match path.strip_prefix(root.as_slice()) {
            Some(rest) if rest.is_empty() || rest[0] == b'/' || root.ends_with(b"/") => Some(rest.to_vec()),
            _ => None,
        };
        let Some(below) = below else {
            let message = format!("{} is not in {}, the first directory", quoted(&path), quoted(root));
            return Err(lines.wrong(
                0,
                message,
                Some("one listing covers one directory and everything below it"),
            ));
        };
        self.section = below;
        let dir = self.directory(lines)?;
        self.listed.insert(dir);
        self.any = true;
        Ok(())
    }

    fn directory(&mut self, lines: &Lines<'_>) -> Result<InodeId, DiskError> {
        self.collector.grower.at(&self.section).map_err(|what| lines.wrong(0, what, None))
    }

    fn put(&mut self, lines: &Lines<'_>, row: Row) -> Result<(), DiskError> {
        let Row { name, mut entry, acl, found, owner, group } = row;
        // What find writes begins with one directory, and everything else is below that.
        let first = self.found.get_or_insert_with(|| found.then(|| name.clone()));
        let below = first.as_ref().is_some_and(|first| {
            name == *first || name.strip_prefix(first.as_slice()).is_some_and(|rest| rest.starts_with(b"/"))
        });
        if !below {
            *first = None;
        }
        if name == b".." {
            return Ok(());
        }
        let path = if name == b"." {
            let dir = self.directory(lines)?;
            self.listed.insert(dir);
            self.dotted.insert(dir);
            self.section.clone()
        } else if name.contains(&b'/') {
            name
        } else {
            // A name that begins with a dot shows that such names are listed.
            if name.starts_with(b".") {
                let dir = self.directory(lines)?;
                self.dotted.insert(dir);
            }
            [&self.section[..], b"/", &name].concat()
        };
        let shown = quoted(&path).to_string();
        let names = (owner.as_deref(), group.as_deref());
        if let Some((what, unknown)) =
            names.0.map(|name| ("user", name)).or(names.1.map(|name| ("group", name)))
        {
            let fact = format!("the number of the {what} {}, which owns {shown}", quoted(unknown));
            let settle = "list with -n, or put the host's passwd and group files beside the listing";
            named_owner(&mut entry, names, &fact, settle);
        }
        if acl {
            let fact = format!("the ACL of {shown}: the listing only says that there is one");
            unknown_mode(&mut entry, &fact, "give a survey, or the output of getfacl -R");
        }
        self.collector.put(lines, &path, entry)
    }

    fn row(&self, line: &[u8]) -> Option<Row> {
        let mut words = Words { rest: line };
        let (kind, mode, acl) = words.letters()?;
        let counted = !letters_first(line);
        number::<u64>(words.next()?)?;
        let owner = words.next()?;
        let group = words.next()?;
        let mut size = words.next()?;
        // `-Z` writes a label before the size, or `?` where there is none.
        let mut label = None;
        if is_label(size) {
            label = xattr::decode_label(size).filter(|label| *label != "?").map(Arc::from);
            size = words.next()?;
        }
        let mut device = None;
        if let Some(major) = size.strip_suffix(b",") {
            device = Some(Device { major: number(major)?, minor: number(words.next()?)? });
        } else {
            bytes(size)?;
        }
        let rest = words.behind_date()?;
        let found = counted && rest.first().is_some_and(|byte| matches!(byte, b'.' | b'/'));
        let (name, target) = names(rest, kind, found && rest.contains(&b'/'))?;
        let uid = self.owners.uid(owner);
        let gid = self.owners.gid(group);
        let mut entry = Entry::new(kind, uid.unwrap_or(0), gid.unwrap_or(0), mode);
        entry.target = target.into();
        entry.device = device;
        entry.extended.label = label;
        let unknown = |id: Option<u32>, name: &[u8]| id.is_none().then(|| name.to_vec());
        Some(Row { name, entry, acl, found, owner: unknown(uid, owner), group: unknown(gid, group) })
    }

    /// What is in directories without a section is not known; without `-a` names with a dot are assumed away.
    fn finish(mut self, name: &str) -> Result<Gathered, DiskError> {
        if !self.any {
            return Err(DiskError::whole(name, "the listing names no file"));
        }
        let whole = self.found.is_some_and(|first| first.is_some()) && self.root.is_none();
        let tree = &mut self.collector.grower.tree;
        let hidden: Arc<str> = "no name begins with a dot in directories that were listed without -a".into();
        let directories: Vec<InodeId> =
            tree.ids().filter(|id| tree.inode(*id).kind == FileKind::Directory).collect();
        for id in directories {
            let listed = self.listed.contains(&id) || (id == Tree::ROOT && self.root.is_none());
            let contents = match (listed || whole, whole || self.dotted.contains(&id)) {
                (true, true) => Certainty::Known,
                (true, false) => Certainty::Assumed(hidden.clone()),
                (false, _) => {
                    let mut entry = Entry::directory(0, 0, 0);
                    let fact = format!("what is in the directories that {name} does not list");
                    unknown_contents(&mut entry, &fact, "list with -R, or give a survey");
                    entry.doubt.unwrap_or_default().contents
                }
            };
            let before = tree.doubt(id).cloned().unwrap_or_default();
            if !before.knows_attributes() || contents != Certainty::Known {
                tree.set_doubt(id, Doubt { contents, ..before });
            }
        }
        let top = self.root.as_deref().and_then(top);
        Ok(Gathered { top, ..self.collector.finish(name, Unrecorded::but_acls("`ls` does not show that"))? })
    }
}

struct Row {
    name: Vec<u8>,
    entry: Entry,
    acl: bool,
    /// Whether `find -ls` may have written it.
    found: bool,
    /// The owner's name, or its number where no name is known.
    owner: Option<Vec<u8>>,
    group: Option<Vec<u8>>,
}

struct Words<'l> {
    rest: &'l [u8],
}

impl<'l> Words<'l> {
    /// The letters of the mode, behind an inode's number and a count of blocks where `-i` and `-s` write them.
    fn letters(&mut self) -> Option<(FileKind, mivask_model::mode::Mode, bool)> {
        for _ in 0..2 {
            let before = self.rest;
            if let Some(found) = letters(self.next()?) {
                return Some(found);
            }
            self.rest = before;
            let word = self.next()?;
            // Blocks are also written as 4.0K.
            let blocks = word.first().is_some_and(u8::is_ascii_digit)
                && word.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'.');
            if !blocks {
                return None;
            }
        }
        letters(self.next()?)
    }

    fn next(&mut self) -> Option<&'l [u8]> {
        let start = self.rest.iter().position(|byte| *byte != b' ')?;
        let rest = &self.rest[start..];
        let end = rest.iter().position(|byte| *byte == b' ').unwrap_or(rest.len());
        self.rest = &rest[end..];
        Some(&rest[..end])
    }

    /// What is behind the date, and the one blank after it: `Nov 25 12:00`, `25 Nov 2026`, `2026-11-25 12:00`,
    /// `2026-11-25 12:00:00.000000000 +0000`, `11-25 12:00`.
    fn behind_date(mut self) -> Option<&'l [u8]> {
        let first = self.next()?;
        if first.contains(&b'-') {
            let time = self.next()?;
            if time.iter().filter(|byte| **byte == b':').count() == 2 {
                self.next()?;
            }
        } else {
            self.next()?;
            self.next()?;
        }
        self.rest.strip_prefix(b" ").filter(|rest| !rest.is_empty())
    }
}

/// Whether nothing is before the letters of the mode.
fn letters_first(line: &[u8]) -> bool {
    (Words { rest: line }).next().is_some_and(|word| letters(word).is_some())
}

/// A size: a number of bytes, or one as `-h` writes it.
fn bytes(word: &[u8]) -> Option<()> {
    let digits =
        word.strip_suffix(b"K").or(word.strip_suffix(b"M")).or(word.strip_suffix(b"G")).unwrap_or(word);
    let plain = !digits.is_empty() && digits.iter().all(|byte| byte.is_ascii_digit() || *byte == b'.');
    plain.then_some(())
}

/// Whether it is an SELinux label, user:role:type:level.
fn is_label(word: &[u8]) -> bool {
    word == b"?" || word.iter().filter(|byte| **byte == b':').count() >= 2
}

/// A name whose every blank is behind a backslash, as `--quoting-style=escape` and `find -ls` write it.
fn escaped(text: &[u8]) -> Option<Vec<u8>> {
    let blanks = || text.iter().enumerate().filter(|(_, byte)| **byte == b' ').map(|(at, _)| at);
    let all = blanks().all(|at| at > 0 && text[at - 1] == b'\\');
    (all && blanks().next().is_some()).then(|| backslashes(text))
}

/// The name, and what a link points at.
fn names(text: &[u8], kind: FileKind, found: bool) -> Option<(Vec<u8>, Vec<u8>)> {
    // Where some names are quoted, the others are put in line with a blank.
    let aligned = text.strip_prefix(b" ").unwrap_or(text);
    let plain = |text: &[u8]| {
        if found {
            return backslashes(text);
        }
        shell_quoted(text).or_else(|| escaped(text)).unwrap_or_else(|| text.to_vec())
    };
    if kind != FileKind::Link {
        return Some((plain(aligned), Vec::new()));
    }
    let at = aligned.windows(4).position(|four| four == b" -> ")?;
    Some((plain(&aligned[..at]), plain(&aligned[at + 4..])))
}
