//! `find DIR -printf '%m %U %G %y %p\n'`, for links `%m %U %G %y %p -> %l\n`; or, for names of any bytes,
//! `find DIR -printf '%m %U %G %y %p\0%l\0'`.

use std::io::BufRead;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Entry, Unrecorded};

use super::collect::Collector;
use super::lines::Lines;
use super::{kind_of_letter, number, octal};
use crate::error::DiskError;
use crate::gathered::Gathered;

const NUL_HELP: &str = "with NUL bytes each entry has its target, and only links have one: `find DIR -printf '%m %U %G %y %p\\0%l\\0'`";
const HELP: &str =
    "each line is MODE UID GID KIND PATH, as `find DIR -printf '%m %U %G %y %p -> %l\\n'` writes them";

pub(super) fn fits(line: &[u8]) -> bool {
    parse(line).is_some()
}

struct Row<'l> {
    entry: Entry,
    path: &'l [u8],
}

fn parse(line: &[u8]) -> Option<Row<'_>> {
    let mut fields = line.splitn(5, |byte| *byte == b' ');
    let mode = octal(fields.next()?)?;
    let uid = number(fields.next()?)?;
    let gid = number(fields.next()?)?;
    let [letter] = fields.next()? else { return None };
    // find writes `f` for what ls writes as `-`.
    if *letter == b'-' {
        return None;
    }
    let kind = kind_of_letter(*letter)?;
    let path = fields.next().filter(|path| !path.is_empty())?;
    Some(Row { entry: Entry::new(kind, uid, gid, mode), path })
}

pub(super) fn gather(name: &str, input: &mut dyn BufRead) -> Result<Gathered, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut collector = Collector::new(name);
    let nul = lines.is_nul_ahead()?;
    if nul {
        lines.end_with_nul();
    }
    while let Some(line) = lines.next()?.map(<[u8]>::to_vec) {
        if line.is_empty() {
            continue;
        }
        let Some(Row { mut entry, mut path }) = parse(&line) else {
            return Err(lines.wrong(0, "this is not a line of such a listing", Some(HELP)));
        };
        let target = if nul {
            lines.next()?.map(<[u8]>::to_vec).unwrap_or_default()
        } else if let Some(at) = arrow(path, entry.kind) {
            let target = path[at + 4..].to_vec();
            path = &path[..at];
            target
        } else {
            if entry.kind != FileKind::Link {
                path = path.strip_suffix(b" -> ").unwrap_or(path);
            }
            Vec::new()
        };
        if entry.kind == FileKind::Link {
            if target.is_empty() {
                return Err(lines.wrong(0, "a link without its target", Some(HELP)));
            }
            entry.target = target.into();
        } else if !target.is_empty() {
            // Most likely the next entry: it must not be lost.
            return Err(lines.wrong(0, "something that is not a link has a target", Some(NUL_HELP)));
        }
        collector.put(&lines, path, entry)?;
    }
    collector.finish(name, Unrecorded::on_all("`find` does not show that"))
}

/// Where the arrow of a link begins; the first one, since targets hold one more often than names do.
fn arrow(path: &[u8], kind: FileKind) -> Option<usize> {
    if kind != FileKind::Link {
        return None;
    }
    path.windows(4).position(|four| four == b" -> ")
}
