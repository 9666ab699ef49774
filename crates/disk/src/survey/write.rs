//! From a tree to a survey.

use std::collections::BTreeMap;
use std::io::{self, Write};

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, Doubt, InodeId, Likeness, Tree};
use mivask_model::xattr;
use rustc_hash::FxHashMap;

use super::beside::Beside;
use super::columns::{Column, Writer};
use super::frame::{FrameWriter, Kind};
use super::{Head, MAGIC, MAGIC_LABELLED};
use crate::gathered::{Gathered, Holes};

/// A frame is closed when its columns have this many bytes.
const FULL: usize = 1 << 19;

/// Records `tree`, which came from `source`.
///
/// # Errors
/// `out` cannot be written.
pub fn write(out: &mut dyn Write, tree: &Tree, source: &str, holes: Holes) -> io::Result<()> {
    whole(out, tree, &head(tree, source, holes))
}

/// Records all that a source gave, which is called `source`: for an image that is also its user, its accounts and what
/// else its configuration says. Passwords in account files are left out.
///
/// # Errors
/// `out` cannot be written.
pub fn record(out: &mut dyn Write, gathered: &Gathered, source: &str) -> io::Result<()> {
    let image = Beside::of(gathered.accounts.as_ref(), gathered.image.as_ref());
    let head = Head { image, ..head(&gathered.tree, source, gathered.holes) };
    whole(out, &gathered.tree, &head)
}

fn whole(out: &mut dyn Write, tree: &Tree, head: &Head) -> io::Result<()> {
    let labelled = tree.labels().next().is_some();
    out.write_all(if labelled { MAGIC_LABELLED } else { MAGIC })?;
    let mut frames = FrameWriter::new(out)?;
    frames.write(Kind::Head, &serde_json::to_vec(head)?)?;
    let mut recorder = Recorder {
        tree,
        columns: Writer::default(),
        classes: FxHashMap::default(),
        latest: None,
        extended: FxHashMap::default(),
        labelled,
        scripts: BTreeMap::new(),
        numbers: vec![u32::MAX; tree.len()],
        next: 0,
    };
    recorder.everything(&mut frames)?;
    frames.write(Kind::End, recorder.next.to_string().as_bytes())
}

fn head(tree: &Tree, source: &str, holes: Holes) -> Head {
    let (directories, name_bytes) = tree.extent();
    let unrecorded = tree.unrecorded();
    let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    Head {
        source: source.to_owned(),
        inodes: count(tree.len()),
        directories: count(directories),
        name_bytes: count(name_bytes),
        unrecorded: [&unrecorded.acls, &unrecorded.capabilities, &unrecorded.attributes]
            .map(|text| text.as_deref().map(str::to_owned)),
        vanished: holes.vanished,
        denied: holes.denied,
        failed: holes.failed,
        boundaries: holes.boundaries,
        image: Beside::default(),
    }
}

struct Recorder<'t> {
    tree: &'t Tree,
    columns: Writer,
    classes: FxHashMap<Likeness, u32>,
    /// The last class, since neighbours are mostly alike.
    latest: Option<(Likeness, u32)>,
    extended: FxHashMap<Vec<u8>, u64>,
    /// Whether sets of extended attributes have a label in them.
    labelled: bool,
    scripts: BTreeMap<Box<[u8]>, u64>,
    /// The number of each inode in the survey, once it has one.
    numbers: Vec<u32>,
    next: u32,
}

impl Recorder<'_> {
    fn everything(&mut self, frames: &mut FrameWriter<'_>) -> io::Result<()> {
        // The root is the only entry of a directory that is not there.
        self.columns.number(Column::Counts, 2);
        let mut pending = Vec::new();
        pending.extend(self.entry(b"", b"", Tree::ROOT));
        while let Some(dir) = pending.pop() {
            let first = pending.len();
            let count = self.tree.child_count(dir);
            let mut written = 0;
            let mut before: &[u8] = b"";
            while written < count || count == 0 {
                let room = FULL.saturating_sub(self.columns.len()) / 8 + 1;
                let part = room.min(count - written);
                let more = written + part < count;
                self.columns.number(Column::Counts, part as u64 * 2 + u64::from(more));
                for index in written..written + part {
                    let Some((name, id)) = self.tree.child(dir, index) else { continue };
                    pending.extend(self.entry(before, name, id));
                    before = name;
                }
                written += part;
                if self.columns.len() >= FULL || more {
                    frames.write(Kind::Directories, &self.columns.take())?;
                    before = b"";
                }
                if count == 0 {
                    break;
                }
            }
            pending[first..].reverse();
        }
        if self.columns.len() > 0 {
            frames.write(Kind::Directories, &self.columns.take())?;
        }
        Ok(())
    }

    /// Writes one entry; gives it back if it is a directory to be listed.
    fn entry(&mut self, before: &[u8], name: &[u8], id: InodeId) -> Option<InodeId> {
        let shared = before.iter().zip(name).take_while(|(a, b)| a == b).count();
        // Names have at most 255 bytes.
        self.columns.byte(Column::Shared, u8::try_from(shared).unwrap_or(u8::MAX));
        self.columns.byte(Column::Lengths, u8::try_from(name.len() - shared).unwrap_or(u8::MAX));
        self.columns.bytes(Column::Names, &name[shared..]);
        let slot = id.number() as usize;
        if self.numbers[slot] != u32::MAX {
            self.columns.number(Column::Classes, 0);
            self.columns.number(Column::Links, u64::from(self.numbers[slot]));
            return None;
        }
        self.numbers[slot] = self.next;
        self.next += 1;
        let class = self.class(id);
        self.columns.number(Column::Classes, u64::from(class) + 1);
        if let Some(target) = self.tree.target(id) {
            self.columns.sized(Column::Targets, target);
        }
        let kind = self.tree.inode(id).kind;
        if kind == FileKind::File && self.tree.has_sizes() {
            let size = self.tree.size(id).map_or(0, |size| size.saturating_add(1));
            self.columns.number(Column::Sizes, size);
        }
        if let Some(doubt) = self.tree.doubt(id) {
            self.doubt(self.numbers[slot], doubt);
        }
        (kind == FileKind::Directory).then_some(id)
    }

    fn class(&mut self, id: InodeId) -> u32 {
        let likeness = self.tree.likeness(id);
        if let Some((latest, class)) = self.latest
            && latest == likeness
        {
            return class;
        }
        let class = match self.classes.get(&likeness) {
            Some(known) => *known,
            None => {
                let class = u32::try_from(self.classes.len()).unwrap_or(u32::MAX);
                self.classes.insert(likeness, class);
                self.new_class(id);
                class
            }
        };
        self.latest = Some((likeness, class));
        class
    }

    fn new_class(&mut self, id: InodeId) {
        let tree = self.tree;
        let inode = tree.inode(id);
        self.columns.byte(Column::NewClasses, kind_byte(inode.kind));
        self.columns.byte(Column::NewClasses, inode.marks.given());
        for number in [
            u32::from(inode.stored_mode().bits()),
            inode.stored_owner().uid.raw(),
            inode.stored_owner().gid.raw(),
        ] {
            self.columns.number(Column::NewClasses, u64::from(number));
        }
        let extended = self.extended(id);
        self.columns.number(Column::NewClasses, extended);
        let content = self.content(tree.content(id));
        self.columns.number(Column::NewClasses, content);
        match tree.device(id) {
            None => self.columns.byte(Column::NewClasses, 0),
            Some(device) => {
                self.columns.byte(Column::NewClasses, 1);
                self.columns.number(Column::NewClasses, u64::from(device.major));
                self.columns.number(Column::NewClasses, u64::from(device.minor));
            }
        }
    }

    fn extended(&mut self, id: InodeId) -> u64 {
        let Some(extended) = self.tree.extended(id) else { return 0 };
        let mut bytes = Vec::new();
        let access = extended.access.as_ref().map(xattr::encode);
        let default = extended.default.as_ref().map(xattr::encode);
        let capabilities = extended.capabilities.as_ref().map(|caps| xattr::encode_capabilities(Some(caps)));
        let mut columns = Writer::default();
        for value in [access, default, capabilities] {
            columns.sized(Column::NewExtended, &value.unwrap_or_default());
        }
        if self.labelled {
            columns.sized(Column::NewExtended, extended.label.as_deref().unwrap_or_default().as_bytes());
        }
        bytes.extend(columns.column(Column::NewExtended));
        let next = self.extended.len() as u64 + 1;
        if let Some(known) = self.extended.get(&bytes) {
            return *known;
        }
        self.columns.bytes(Column::NewExtended, &bytes);
        self.extended.insert(bytes, next);
        next
    }

    fn content(&mut self, content: &Content) -> u64 {
        match content {
            Content::Unknown => 0,
            Content::Program => 1,
            Content::Data => 2,
            Content::Empty => 3,
            Content::Script(path) => {
                let next = self.scripts.len() as u64 + 4;
                if let Some(known) = self.scripts.get(path) {
                    return *known;
                }
                self.columns.sized(Column::NewScripts, path);
                self.scripts.insert(path.clone(), next);
                next
            }
        }
    }

    fn doubt(&mut self, number: u32, doubt: &Doubt) {
        self.columns.number(Column::Doubts, u64::from(number));
        // Mostly both are known or neither is, so one stands for both unless they differ.
        if doubt.owner != doubt.mode {
            self.columns.byte(Column::Doubts, APART);
            self.certainty(&doubt.owner);
        }
        self.certainty(&doubt.mode);
        self.certainty(&doubt.contents);
    }

    fn certainty(&mut self, certainty: &Certainty) {
        match certainty {
            Certainty::Known => self.columns.byte(Column::Doubts, 0),
            Certainty::Assumed(text) => {
                self.columns.byte(Column::Doubts, 1);
                self.columns.sized(Column::Doubts, text.as_bytes());
            }
            Certainty::Unknown(unknown) => {
                self.columns.byte(Column::Doubts, 2);
                self.columns.sized(Column::Doubts, unknown.fact.as_bytes());
                self.columns.sized(Column::Doubts, unknown.settle.as_bytes());
            }
        }
    }
}

/// Before the certainty of an owner that is not as sure as the mode, which follows.
pub(super) const APART: u8 = 3;

/// The letter of each kind, as `ls` writes it, but `f` for a regular file.
pub(super) const fn kind_byte(kind: FileKind) -> u8 {
    match kind {
        FileKind::File => b'f',
        FileKind::Directory => b'd',
        FileKind::Link => b'l',
        FileKind::Fifo => b'p',
        FileKind::Socket => b's',
        FileKind::CharDevice => b'c',
        FileKind::BlockDevice => b'b',
    }
}
