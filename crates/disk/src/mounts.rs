//! Tables of mounts: `/proc/PID/mountinfo`, `/proc/mounts` and fstab(5), recognised line by line.

use std::collections::{BTreeMap, BTreeSet};
use std::io::BufRead;

use crate::error::DiskError;
use crate::listing::{Lines, backslashes, number};

const HELP: &str = "name a copy of /proc/self/mountinfo, of /proc/mounts or of /etc/fstab";

/// One line of a table.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MountLine {
    /// The mount point, absolute.
    pub at: Vec<u8>,
    /// The part of the filesystem that shows; `/` if not given.
    pub root: Vec<u8>,
    /// `MAJOR:MINOR` of the filesystem, where it is given.
    pub device: Option<String>,
    /// The filesystem's type.
    pub filesystem: String,
    /// Options of the mount.
    pub options: Vec<String>,
    /// Options of the superblock; the same as those of the mount where the table does not tell them apart.
    pub super_options: Vec<String>,
    /// Its own number and that of the mount it is mounted on, where they are given.
    pub numbers: Option<MountNumbers>,
    /// Its line, from 1.
    pub line: usize,
}

/// The numbers of a mount in mountinfo (proc_pid_mountinfo(5), fields 1 and 2).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct MountNumbers {
    /// Its own.
    pub own: u32,
    /// That of the mount it is mounted on; its own for the root of the namespace.
    pub parent: u32,
}

/// Those mounts of a table that a path can lead to, outer ones first: others are mounted over the rest. The order of a
/// table says little, since a root may be mounted last; mountinfo tells which mount each is on.
#[must_use]
pub fn visible(lines: Vec<MountLine>) -> Vec<MountLine> {
    let hidden = Hiding::new(&lines).all();
    let mut left: Vec<MountLine> =
        lines.into_iter().zip(hidden).filter(|(_, hidden)| !hidden).map(|(line, _)| line).collect();
    left.sort_by(|a, b| a.at.cmp(&b.at));
    left
}

/// No mount is deeper on others; a table that says so claims a circle.
const DEEPEST: usize = 1000;

/// Which mounts of a table others are mounted over.
struct Hiding<'l> {
    lines: &'l [MountLine],
    by_number: BTreeMap<u32, usize>,
    /// The mount each is on, and where.
    places: BTreeSet<(u32, &'l [u8])>,
    /// The last line of each place.
    last: BTreeMap<&'l [u8], usize>,
}

impl<'l> Hiding<'l> {
    fn new(lines: &'l [MountLine]) -> Self {
        let numbered = lines.iter().enumerate().filter_map(|(index, line)| Some((line.numbers?.own, index)));
        let places = lines.iter().filter_map(|line| Some((line.numbers?.parent, line.at.as_slice())));
        let last = lines.iter().enumerate().map(|(index, line)| (line.at.as_slice(), index));
        Self { lines, by_number: numbered.collect(), places: places.collect(), last: last.collect() }
    }

    fn all(&self) -> Vec<bool> {
        (0..self.lines.len()).map(|index| self.is_hidden(index)).collect()
    }

    /// Something is right over it, or over a place further up on the same mount; or it is on what is hidden so.
    fn is_hidden(&self, index: usize) -> bool {
        let mut here = index;
        for _ in 0..DEEPEST {
            let line = &self.lines[here];
            let Some(MountNumbers { own, parent }) = line.numbers else {
                // Without numbers the last mount of a place counts.
                return self.last.get(line.at.as_slice()) != Some(&here);
            };
            let on_top = own != parent && self.places.contains(&(own, line.at.as_slice()));
            if on_top || above(&line.at).any(|place| self.places.contains(&(parent, place))) {
                return true;
            }
            match self.by_number.get(&parent) {
                // What is mounted right over a hidden one is not hidden by that.
                Some(below) if self.lines[*below].at != line.at => here = *below,
                Some(_) | None => return false,
            }
        }
        false
    }
}

/// The places further up: `/srv` and `/` for `/srv/a`.
fn above(at: &[u8]) -> impl Iterator<Item = &[u8]> {
    let slashes = at.iter().enumerate().rev().filter(|(_, byte)| **byte == b'/').map(|(place, _)| place);
    slashes.map(move |slash| &at[..slash.max(1)]).filter(move |place| place.len() < at.len())
}

/// Reads a table of mounts, which is called `name` in answers.
///
/// # Errors
/// A line does not belong to such a table.
pub fn read(name: &str, input: &mut dyn BufRead) -> Result<Vec<MountLine>, DiskError> {
    let mut lines = Lines::new(name, input);
    let mut all = Vec::new();
    while let Some(line) = lines.next()?.map(<[u8]>::to_vec) {
        let text = line.trim_ascii();
        if text.is_empty() || text.starts_with(b"#") {
            continue;
        }
        let fields: Vec<&[u8]> =
            text.split(|byte| matches!(byte, b' ' | b'\t')).filter(|field| !field.is_empty()).collect();
        let given = if is_mountinfo(&fields) { mountinfo(&fields) } else { table(&fields) };
        match given {
            Some(Told::Mount(mount)) => all.push(MountLine { line: lines.number, ..mount }),
            Some(Told::Nothing) => {}
            None => return Err(lines.wrong(0, "this is not a line of a table of mounts", Some(HELP))),
        }
    }
    if all.is_empty() {
        return Err(DiskError::whole(name, "the table names no mount").with_help(HELP));
    }
    Ok(all)
}

enum Told {
    Mount(MountLine),
    /// Swap space, and what is not mounted by itself.
    Nothing,
}

fn is_mountinfo(fields: &[&[u8]]) -> bool {
    let digits = |field: &[u8]| field.iter().all(u8::is_ascii_digit);
    fields.len() >= 9 && digits(fields[0]) && digits(fields[1]) && fields[2].contains(&b':')
}

/// `36 35 98:0 /root /at rw,noatime shared:1 - ext4 /dev/sda1 rw,errors=continue`
fn mountinfo(fields: &[&[u8]]) -> Option<Told> {
    let dash = fields.iter().skip(6).position(|field| *field == b"-")? + 6;
    let filesystem = text(fields.get(dash + 1)?);
    Some(Told::Mount(MountLine {
        at: absolute(fields[4])?,
        root: backslashes(fields[3]),
        device: Some(text(fields[2])),
        filesystem,
        numbers: Some(MountNumbers { own: number(fields[0])?, parent: number(fields[1])? }),
        options: options(fields[5]),
        super_options: fields.get(dash + 3).map(|field| options(field)).unwrap_or_default(),
        line: 0,
    }))
}

/// `/dev/sda1 /at ext4 rw,noatime 0 1`; the last two may be left out in fstab.
fn table(fields: &[&[u8]]) -> Option<Told> {
    let at = *fields.get(1)?;
    let filesystem = *fields.get(2)?;
    let given = fields.get(3).map(|field| options(field)).unwrap_or_default();
    if fields.len() > 6 || fields.iter().skip(4).any(|field| !field.iter().all(u8::is_ascii_digit)) {
        return None;
    }
    if filesystem == b"swap"
        || at == b"none"
        || at == b"swap"
        || given.iter().any(|option| option == "noauto")
    {
        return Some(Told::Nothing);
    }
    Some(Told::Mount(MountLine {
        at: absolute(at)?,
        root: b"/".to_vec(),
        device: None,
        filesystem: text(filesystem),
        numbers: None,
        super_options: given.clone(),
        options: given,
        line: 0,
    }))
}

fn absolute(field: &[u8]) -> Option<Vec<u8>> {
    let mut at = backslashes(field);
    while at.len() > 1 && at.last() == Some(&b'/') {
        at.pop();
    }
    at.starts_with(b"/").then_some(at)
}

fn options(field: &[u8]) -> Vec<String> {
    text(&backslashes(field)).split(',').filter(|option| !option.is_empty()).map(ToOwned::to_owned).collect()
}

fn text(field: &[u8]) -> String {
    String::from_utf8_lossy(field).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read_text(text: &str) -> Result<Vec<MountLine>, DiskError> {
        read("table", &mut text.as_bytes())
    }

    #[test]
    fn what_is_mounted_over_is_out_of_reach() {
        let left = |text: &str| -> Vec<usize> {
            visible(read_text(text).unwrap()).into_iter().map(|mount| mount.line).collect()
        };
        // The root may come last; it hides nothing that is on it.
        let late = "22 27 0:21 / /proc rw - proc proc rw\n27 1 8:1 / / rw - ext4 /dev/a rw\n";
        assert_eq!(left(late), [2, 1]);
        // A second root over the first, with what lay on the first.
        let twice = "1 0 0:1 / / rw - rootfs rootfs rw\n2 1 0:2 / /old rw - tmpfs a rw\n3 1 8:1 / / rw - ext4 /dev/a rw\n\
                     4 3 8:2 / /srv rw - ext4 /dev/b rw\n";
        assert_eq!(left(twice), [3, 4]);
        // /srv/a was there before something was mounted on /srv.
        let across = "1 0 8:1 / / rw - ext4 a rw\n2 1 8:2 / /srv/a rw - ext4 b rw\n3 2 8:5 / /srv/a/x rw - ext4 e rw\n\
                      4 1 8:3 / /srv rw - ext4 c rw\n5 4 8:4 / /srv/b rw - ext4 d rw\n";
        assert_eq!(left(across), [1, 4, 5]);
        assert_eq!(left("a /proc proc rw 0 0\nb / ext4 rw 0 0\nc / xfs rw 0 0\n"), [3, 1]);
        // A table that claims a circle ends all the same.
        left("1 2 8:1 / /a rw - ext4 a rw\n2 1 8:2 / /b rw - ext4 b rw\n");
    }

    #[test]
    fn the_three_tables_are_told_apart() {
        let info = "29 1 254:0 / / rw,relatime shared:1 - ext4 /dev/root rw,discard\n\
                    40 29 0:35 /sub /srv/a\\040b ro,nosuid - tmpfs tmpfs rw,size=1k\n";
        let lines = read_text(info).unwrap();
        assert_eq!((lines[1].at.as_slice(), lines[1].root.as_slice()), (&b"/srv/a b"[..], &b"/sub"[..]));
        assert_eq!((lines[1].options[0].as_str(), lines[1].super_options[0].as_str()), ("ro", "rw"));
        assert_eq!((lines[1].filesystem.as_str(), lines[1].line), ("tmpfs", 2));

        let fstab = "# disks\nUUID=1 / ext4 defaults 0 1\n/dev/b none swap sw 0 0\n\
                     LABEL=usb\t/media/usb/ vfat uid=7101,noexec\n/dev/c /mnt xfs noauto 0 0\n";
        let lines = read_text(fstab).unwrap();
        assert_eq!(lines.len(), 2);
        assert_eq!((lines[1].at.as_slice(), lines[1].line), (&b"/media/usb"[..], 4));

        let error = read_text("29 1 254:0 / / rw shared:1\n").unwrap_err();
        assert!(error.to_string().starts_with("table:1:1: "), "{error}");
        assert!(read_text("").is_err() && read_text("scene: 1\n").is_err());
    }
}
