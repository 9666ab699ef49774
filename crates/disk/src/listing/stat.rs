//! `stat -c '%a %u %g %F %n' PATH...`, and what `stat` prints when no one asks for a format.

use std::io::BufRead;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Content, Entry, Unrecorded};
use mivask_model::xattr;

use super::collect::{Collector, unknown_contents};
use super::lines::Lines;
use super::unescape::shell_quoted;
use super::{kind_of_letter, number, octal};
use crate::error::DiskError;
use crate::gathered::Gathered;

const HELP: &str = "write them with `stat -c '%a %u %g %F %n' PATH...`";
/// The words of `%F`.
const KINDS: [(&str, FileKind); 8] = [
    ("regular empty file", FileKind::File),
    ("regular file", FileKind::File),
    ("directory", FileKind::Directory),
    ("symbolic link", FileKind::Link),
    ("fifo", FileKind::Fifo),
    ("socket", FileKind::Socket),
    ("character special file", FileKind::CharDevice),
    ("block special file", FileKind::BlockDevice),
];

pub(super) fn fits(line: &[u8]) -> bool {
    parse(line).is_some() || line.trim_ascii_start().starts_with(b"File: ")
}

fn parse(line: &[u8]) -> Option<(Entry, &[u8])> {
    let mut fields = line.splitn(4, |byte| *byte == b' ');
    let mode = octal(fields.next()?)?;
    let uid = number(fields.next()?)?;
    let gid = number(fields.next()?)?;
    let rest = fields.next()?;
    let (word, kind) = KINDS.into_iter().find(|(word, _)| rest.starts_with(word.as_bytes()))?;
    let path = rest[word.len()..].strip_prefix(b" ").filter(|path| !path.is_empty())?;
    let mut entry = Entry::new(kind, uid, gid, mode);
    if word == "regular empty file" {
        entry.content = Content::Empty;
    }
    Some((entry, path))
}

pub(super) fn gather(name: &str, input: &mut dyn BufRead) -> Result<Gathered, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut collector = Collector::new(name);
    let mut file = None;
    // What is told of the last file comes in several lines.
    let mut held: Option<(Vec<u8>, Entry)> = None;
    while let Some(line) = lines.next()?.map(<[u8]>::to_vec) {
        if line.is_empty() {
            continue;
        }
        if let Some((entry, path)) = parse(&line) {
            put(&mut collector, &lines, path, entry)?;
        } else if let Some(given) = line.trim_ascii_start().strip_prefix(b"File: ") {
            flush(&mut collector, &lines, &mut held)?;
            file = Some(given.to_vec());
        } else if let Some(access) = line.trim_ascii_start().strip_prefix(b"Access: (") {
            let Some(path) = file.take() else { continue };
            let Some(entry) = access_line(access) else {
                return Err(lines.wrong(0, "mode and owners do not read", Some(HELP)));
            };
            let (path, target) = split(&path);
            held = Some((path, Entry { target: target.into(), ..entry }));
        } else if let Some(label) = line.trim_ascii_start().strip_prefix(b"Context: ") {
            let label = xattr::decode_label(label.trim_ascii()).filter(|label| *label != "?");
            if let Some((_, entry)) = &mut held {
                entry.extended.label = label.map(Into::into);
            }
        } else if !is_detail(&line) {
            return Err(lines.wrong(0, "this is not a line of such a listing", Some(HELP)));
        }
    }
    flush(&mut collector, &lines, &mut held)?;
    collector.finish(name, Unrecorded::on_all("`stat` does not show that"))
}

fn flush(
    collector: &mut Collector,
    lines: &Lines<'_>,
    held: &mut Option<(Vec<u8>, Entry)>,
) -> Result<(), DiskError> {
    held.take().map_or(Ok(()), |(path, entry)| put(collector, lines, &path, entry))
}

fn put(collector: &mut Collector, lines: &Lines<'_>, path: &[u8], mut entry: Entry) -> Result<(), DiskError> {
    match entry.kind {
        FileKind::Directory => {
            let fact = format!("what else is in {}", mivask_model::act::quoted(path));
            unknown_contents(
                &mut entry,
                &fact,
                "stat shows one path at a time: give a survey or a whole listing",
            );
        }
        // Where a link leads decides more than that it is one: what a directory of such a listing holds is not known anyway.
        FileKind::Link if entry.target.is_empty() => return Ok(()),
        FileKind::Link
        | FileKind::File
        | FileKind::Fifo
        | FileKind::Socket
        | FileKind::CharDevice
        | FileKind::BlockDevice => {}
    }
    collector.put(lines, path, entry)
}

/// `0640/-rw-r-----)  Uid: ( 7101/   gauge)   Gid: ( 7200/   tides)`
fn access_line(text: &[u8]) -> Option<Entry> {
    let text = std::str::from_utf8(text).ok()?;
    let (mode, rest) = text.split_once('/')?;
    let kind = kind_of_letter(*rest.as_bytes().first()?)?;
    let id = |label: &str| {
        let (_, behind) = rest.split_once(label)?;
        behind.trim_start_matches([' ', '(']).split(['/', ' ', ')']).next()?.parse::<u32>().ok()
    };
    Some(Entry::new(kind, id("Uid:")?, id("Gid:")?, octal(mode.as_bytes())?))
}

/// A path, and what it points at where it is a link: `'a' -> 'b'` or `a -> b`.
fn split(text: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let plain = |text: &[u8]| shell_quoted(text).unwrap_or_else(|| text.to_vec());
    match text.windows(4).position(|four| four == b" -> ") {
        Some(at) => (plain(&text[..at]), plain(&text[at + 4..])),
        None => (plain(text), Vec::new()),
    }
}

/// The other lines of what `stat` prints by itself.
fn is_detail(line: &[u8]) -> bool {
    let labels = ["Size:", "Device:", "Access:", "Modify:", "Change:", "Birth:", "Context:"];
    labels.iter().any(|label| line.trim_ascii_start().starts_with(label.as_bytes()))
}
