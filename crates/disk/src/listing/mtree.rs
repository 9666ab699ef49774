//! mtree(5): entries below each other with `..` between them, or with whole paths; keywords with `/set` or without.

use std::io::BufRead;

use mivask_model::act::quoted;
use mivask_model::mode::{FileKind, Mode, ModeChange};
use mivask_model::tree::{Content, Device, Entry, Marks, Unrecorded};

use super::collect::{Collector, assumed_file, named_owner, unknown_contents, unknown_mode, unknown_owner};
use super::lines::Lines;
use super::owners::Owners;
use super::unescape::backslashes;
use super::{number, octal};
use crate::error::DiskError;
use crate::gathered::Gathered;

const HELP: &str =
    "an entry is NAME KEYWORD=VALUE ..., such as `level.csv type=file uid=7101 gid=7200 mode=0640`";

pub(super) fn fits(line: &[u8]) -> bool {
    let line = line.trim_ascii_start();
    line.starts_with(b"#mtree")
        || line.starts_with(b"/set ")
        || line.starts_with(b"# \t")
        || line.split(|byte| *byte == b' ').any(|word| word.starts_with(b"type="))
}

/// Keywords an entry may begin with, where its path comes last.
const KEYS: [&[u8]; 6] = [b"type=", b"uid=", b"gid=", b"mode=", b"uname=", b"gname="];

/// What keywords say; later ones win.
#[derive(Clone, Default)]
struct Keywords {
    kind: Option<FileKind>,
    uid: Option<u32>,
    gid: Option<u32>,
    /// Names of owners whose number is unknown.
    user: Option<Vec<u8>>,
    group: Option<Vec<u8>>,
    mode: Option<Mode>,
    link: Vec<u8>,
    size: Option<u64>,
    /// `None` where nothing mentions attributes.
    marks: Option<Marks>,
    device: Option<Device>,
    /// What is below is not given.
    ignore: bool,
}

pub(super) fn gather(name: &str, input: &mut dyn BufRead, owners: Owners) -> Result<Gathered, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut reader = Reader {
        collector: Collector::new(name).rooted(),
        owners,
        set: Keywords::default(),
        here: Vec::new(),
        begun: false,
        tells_attributes: false,
    };
    let mut entry = Vec::new();
    while let Some(line) = lines.next()? {
        let line = line.trim_ascii();
        if entry.is_empty() && (line.is_empty() || line.starts_with(b"#")) {
            continue;
        }
        if let Some(begun) = line.strip_suffix(b"\\") {
            entry.extend_from_slice(begun);
            entry.push(b' ');
            if entry.len() > 1 << 17 {
                return Err(lines.wrong(0, "an entry of more than 128 KiB", None));
            }
            continue;
        }
        entry.extend_from_slice(line);
        reader.line(&lines, &std::mem::take(&mut entry))?;
    }
    if !reader.begun {
        return Err(DiskError::whole(name, "the listing names no file"));
    }
    let why = "mtree does not show that";
    let unrecorded =
        if reader.tells_attributes { Unrecorded::on_extended(why) } else { Unrecorded::on_all(why) };
    reader.collector.finish(name, unrecorded)
}

struct Reader {
    collector: Collector,
    owners: Owners,
    set: Keywords,
    /// The directory that entries without a slash are in.
    here: Vec<Vec<u8>>,
    begun: bool,
    /// Whether any entry mentions attributes: then the others have none.
    tells_attributes: bool,
}

impl Reader {
    fn line(&mut self, lines: &Lines<'_>, line: &[u8]) -> Result<(), DiskError> {
        let mut words = line.split(|byte| matches!(byte, b' ' | b'\t')).filter(|word| !word.is_empty());
        let Some(first) = words.next() else { return Ok(()) };
        if KEYS.iter().any(|key| first.starts_with(key)) {
            // Some write the path last.
            let mut all: Vec<&[u8]> = std::iter::once(first).chain(words).collect();
            let (Some(last), false) = (all.pop(), all.is_empty()) else {
                return Err(lines.wrong(0, "an entry without a name", Some(HELP)));
            };
            return self.entry(lines, last, &mut all.into_iter());
        }
        match first {
            b"/set" => {
                let mut set = std::mem::take(&mut self.set);
                self.keywords(lines, &mut words, &mut set)?;
                self.set = set;
                return Ok(());
            }
            b"/unset" => {
                for word in words {
                    unset(&mut self.set, word);
                }
                return Ok(());
            }
            b".." => {
                // The last one leaves the root.
                self.here.pop();
                return Ok(());
            }
            _ => {}
        }
        self.entry(lines, first, &mut words)
    }

    fn entry(
        &mut self,
        lines: &Lines<'_>,
        first: &[u8],
        words: &mut dyn Iterator<Item = &[u8]>,
    ) -> Result<(), DiskError> {
        let mut given = self.set.clone();
        self.keywords(lines, words, &mut given)?;
        self.begun = true;
        self.tells_attributes |= given.marks.is_some();
        let whole = first.contains(&b'/');
        let name = backslashes(first);
        let path = if whole { name.clone() } else { [self.here.join(&b'/'), name.clone()].join(&b'/') };
        let entry = entry(&path, given);
        let directory = entry.kind == FileKind::Directory;
        if entry.kind == FileKind::Link && entry.target.is_empty() {
            return Err(lines.wrong(0, "a link without its target", Some("write it as link=TARGET")));
        }
        self.collector.put(lines, &path, entry)?;
        if directory && !whole && name != b"." {
            self.here.push(name);
        }
        Ok(())
    }

    /// The words of one line. A number in it says better who owns what than a name beside it; a name takes the place of what an
    /// earlier `/set` gave.
    fn keywords(
        &self,
        lines: &Lines<'_>,
        words: &mut dyn Iterator<Item = &[u8]>,
        given: &mut Keywords,
    ) -> Result<(), DiskError> {
        let all: Vec<&[u8]> = words.collect();
        let has = |key: &[u8]| all.iter().any(|word| word.starts_with(key));
        let numbered = (has(b"uid="), has(b"gid="));
        all.iter().try_for_each(|word| self.keyword(lines, word, numbered, given))
    }

    fn keyword(
        &self,
        lines: &Lines<'_>,
        word: &[u8],
        (has_uid, has_gid): (bool, bool),
        given: &mut Keywords,
    ) -> Result<(), DiskError> {
        let (key, value) = match word.iter().position(|byte| *byte == b'=') {
            Some(at) => (&word[..at], &word[at + 1..]),
            None => (word, &b""[..]),
        };
        let wrong = || {
            let at = lines.text().windows(word.len()).position(|part| part == word).unwrap_or(0);
            lines.wrong(at, format!("{} does not read", quoted(word)), Some(HELP))
        };
        match key {
            b"type" => given.kind = Some(kind(value).ok_or_else(wrong)?),
            b"uid" => (given.uid, given.user) = (Some(number(value).ok_or_else(wrong)?), None),
            b"gid" => (given.gid, given.group) = (Some(number(value).ok_or_else(wrong)?), None),
            // A number, where there is one too, says it better.
            b"uname" if !has_uid => {
                given.uid = self.owners.uid(value);
                given.user = given.uid.is_none().then(|| value.to_vec());
            }
            b"gname" if !has_gid => {
                given.gid = self.owners.gid(value);
                given.group = given.gid.is_none().then(|| value.to_vec());
            }
            b"mode" => given.mode = Some(mode(value).ok_or_else(wrong)?),
            b"link" => given.link = backslashes(value),
            b"size" => given.size = Some(size(value).ok_or_else(wrong)?),
            b"flags" => given.marks = Some(marks(value)),
            b"device" => given.device = device(value),
            b"ignore" => given.ignore = true,
            _ => {}
        }
        Ok(())
    }
}

fn entry(path: &[u8], given: Keywords) -> Entry {
    let kind = given.kind.unwrap_or(FileKind::File);
    let link = (kind == FileKind::Link).then_some(Mode::new(0o777));
    let mode = given.mode.or(link);
    let mut entry =
        Entry::new(kind, given.uid.unwrap_or(0), given.gid.unwrap_or(0), mode.unwrap_or_default());
    (entry.marks, entry.device, entry.target) =
        (given.marks.unwrap_or_default(), given.device, given.link.into());
    entry.size = if kind == FileKind::File { given.size } else { None };
    if kind == FileKind::File && given.size == Some(0) {
        entry.content = Content::Empty;
    }
    let shown = quoted(path).to_string();
    if given.ignore {
        let settle = "leave out `ignore`, or give a survey";
        unknown_contents(&mut entry, &format!("what is in {shown}"), settle);
    }
    // A part that is neither named nor numbered is not known at all.
    let whole =
        (given.user.is_some() || given.uid.is_some()) && (given.group.is_some() || given.gid.is_some());
    let names = (given.user.as_deref(), given.group.as_deref());
    let name = names.0.map(|name| ("user", name)).or(names.1.map(|name| ("group", name)));
    match name {
        Some((what, name)) => {
            let fact = format!("the number of the {what} {}, which owns {shown}", quoted(name));
            let settle = "write uid= and gid=, or put the host's passwd and group files beside the listing";
            if whole {
                named_owner(&mut entry, names, &fact, settle);
            } else {
                unknown_owner(&mut entry, &fact, settle);
            }
        }
        None if given.uid.is_none() || given.gid.is_none() => {
            unknown_owner(&mut entry, &format!("the owner of {shown}"), "write uid= and gid=");
        }
        None => {}
    }
    if mode.is_none() {
        unknown_mode(&mut entry, &format!("the mode of {shown}"), "write mode=");
    }
    if given.kind.is_none() {
        assumed_file(&mut entry, &shown, "the listing does not give its type");
    }
    entry
}

fn unset(set: &mut Keywords, word: &[u8]) {
    match word {
        b"all" => *set = Keywords::default(),
        b"type" => set.kind = None,
        b"uid" | b"uname" => (set.uid, set.user) = (None, None),
        b"gid" | b"gname" => (set.gid, set.group) = (None, None),
        b"mode" => set.mode = None,
        b"flags" => set.marks = None,
        _ => {}
    }
}

fn kind(word: &[u8]) -> Option<FileKind> {
    Some(match word {
        b"file" => FileKind::File,
        b"dir" => FileKind::Directory,
        b"link" => FileKind::Link,
        b"fifo" => FileKind::Fifo,
        b"socket" => FileKind::Socket,
        b"char" => FileKind::CharDevice,
        b"block" => FileKind::BlockDevice,
        _ => return None,
    })
}

/// Octal, or symbolic as chmod(1) takes it, from no bits at all.
fn mode(text: &[u8]) -> Option<Mode> {
    octal(text).or_else(|| {
        let change: ModeChange = std::str::from_utf8(text).ok()?.parse().ok()?;
        Some(change.applied_to(Mode::default(), false, Mode::default()))
    })
}

fn marks(words: &[u8]) -> Marks {
    let mut marks = Marks::default();
    for word in words.split(|byte| *byte == b',') {
        marks = marks.with(match word {
            b"schg" | b"uchg" | b"simmutable" | b"uimmutable" | b"immutable" => Marks::IMMUTABLE,
            b"sappnd" | b"uappnd" | b"sappend" | b"uappend" => Marks::APPEND_ONLY,
            _ => Marks::default(),
        });
    }
    marks
}

/// `FORMAT,MAJOR,MINOR`; a single number packs them in a way that only its system knows.
fn device(text: &[u8]) -> Option<Device> {
    let mut fields = text.split(|byte| *byte == b',').skip(1);
    let value = |field: &[u8]| match field.strip_prefix(b"0x") {
        Some(digits) => u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok(),
        None => number(field),
    };
    Some(Device { major: value(fields.next()?)?, minor: value(fields.next()?)? })
}

/// A size in decimal or, as some write it, in hexadecimal.
fn size(value: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(value).ok()?;
    match text.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => number(value),
    }
}
