//! The entries of a tree as the columns of frames.

use std::collections::BTreeMap;
use std::io;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, Doubt, InodeId, Likeness, Tree};
use mivask_model::xattr;
use rustc_hash::FxHashMap;

use super::columns::{Column, Writer};
use super::frame::{Kind, Packed, Packer};

/// A frame is closed when its columns have this many bytes.
const FULL: usize = 1 << 19;

/// Stands for the number of an inode that has none yet.
const NONE: u32 = u32::MAX;

/// Takes the directories of a tree in the order of paths, each when its entries are known.
pub(super) struct Recorder {
    columns: Writer,
    packer: Packer,
    frames: Vec<Packed>,
    classes: FxHashMap<Likeness, u32>,
    /// The last class, since neighbours are mostly alike.
    latest: Option<(Likeness, u32)>,
    extended: FxHashMap<Vec<u8>, u64>,
    /// Whether sets of extended attributes have a label in them.
    labelled: bool,
    /// Whether there was a label and no place for it.
    label_lost: bool,
    /// Whether files have sizes.
    sizes: bool,
    scripts: BTreeMap<Box<[u8]>, u64>,
    /// The number of each inode in the survey, once it has one.
    numbers: Vec<u32>,
    next: u32,
    /// Directories whose entries are still to come, the next one last.
    pending: Vec<InodeId>,
}

impl Recorder {
    /// Begins with the root of `tree`.
    pub(super) fn new(tree: &Tree, sizes: bool) -> io::Result<Self> {
        let mut recorder = Self {
            columns: Writer::default(),
            packer: Packer::new()?,
            frames: Vec::new(),
            classes: FxHashMap::default(),
            latest: None,
            extended: FxHashMap::default(),
            labelled: tree.labels().next().is_some(),
            label_lost: false,
            sizes,
            scripts: BTreeMap::new(),
            numbers: vec![NONE; tree.len()],
            next: 0,
            pending: Vec::new(),
        };
        // The root is the only entry of a directory that is not there.
        recorder.columns.number(Column::Counts, 2);
        recorder.entry(tree, (b"", b""), Tree::ROOT);
        Ok(recorder)
    }

    /// Takes directories as far as `last`, whose entries are known now.
    pub(super) fn up_to(&mut self, tree: &Tree, last: InodeId) -> io::Result<()> {
        self.numbers.resize(tree.len(), NONE);
        while let Some(dir) = self.pending.pop() {
            self.directory(tree, dir)?;
            if dir == last {
                break;
            }
        }
        Ok(())
    }

    /// The frames with everything, and whether there are labels in them; `None` where there was no place for one.
    pub(super) fn finish(mut self, tree: &Tree) -> io::Result<Option<(Vec<Packed>, bool)>> {
        self.numbers.resize(tree.len(), NONE);
        while let Some(dir) = self.pending.pop() {
            self.directory(tree, dir)?;
        }
        if self.columns.len() > 0 {
            self.close()?;
        }
        let end = self.packer.pack(Kind::End, self.next.to_string().as_bytes())?;
        self.frames.push(end);
        Ok((!self.label_lost).then_some((self.frames, self.labelled)))
    }

    fn directory(&mut self, tree: &Tree, dir: InodeId) -> io::Result<()> {
        let first = self.pending.len();
        let count = tree.child_count(dir);
        if let Some(doubt) = tree.doubt(dir) {
            self.doubt(self.numbers[dir.number() as usize], doubt);
        }
        let mut written = 0;
        let mut before: &[u8] = b"";
        while written < count || count == 0 {
            let room = FULL.saturating_sub(self.columns.len()) / 8 + 1;
            let part = room.min(count - written);
            let more = written + part < count;
            self.columns.number(Column::Counts, part as u64 * 2 + u64::from(more));
            for index in written..written + part {
                let Some((name, id)) = tree.child(dir, index) else { continue };
                self.entry(tree, (before, name), id);
                before = name;
            }
            written += part;
            if self.columns.len() >= FULL || more {
                self.close()?;
                before = b"";
            }
            if count == 0 {
                break;
            }
        }
        self.pending[first..].reverse();
        Ok(())
    }

    /// Closes a frame.
    fn close(&mut self) -> io::Result<()> {
        let packed = self.packer.pack(Kind::Directories, &self.columns.take())?;
        self.frames.push(packed);
        Ok(())
    }

    /// Writes one entry, whose name follows `before`.
    fn entry(&mut self, tree: &Tree, (before, name): (&[u8], &[u8]), id: InodeId) {
        let shared = before.iter().zip(name).take_while(|(a, b)| a == b).count();
        // Names have at most 255 bytes.
        self.columns.byte(Column::Shared, u8::try_from(shared).unwrap_or(u8::MAX));
        self.columns.byte(Column::Lengths, u8::try_from(name.len() - shared).unwrap_or(u8::MAX));
        self.columns.bytes(Column::Names, &name[shared..]);
        let slot = id.number() as usize;
        if self.numbers[slot] != NONE {
            self.columns.number(Column::Classes, 0);
            self.columns.number(Column::Links, u64::from(self.numbers[slot]));
            return;
        }
        self.numbers[slot] = self.next;
        self.next += 1;
        let class = self.class(tree, id);
        self.columns.number(Column::Classes, u64::from(class) + 1);
        if let Some(target) = tree.target(id) {
            self.columns.sized(Column::Targets, target);
        }
        let kind = tree.inode(id).kind;
        if kind == FileKind::File && self.sizes {
            let size = tree.size(id).map_or(0, |size| size.saturating_add(1));
            self.columns.number(Column::Sizes, size);
        }
        if kind == FileKind::Directory {
            // What is not known of it is told with its entries.
            self.pending.push(id);
        } else if let Some(doubt) = tree.doubt(id) {
            self.doubt(self.numbers[slot], doubt);
        }
    }

    fn class(&mut self, tree: &Tree, id: InodeId) -> u32 {
        let likeness = tree.likeness(id);
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
                self.new_class(tree, id);
                class
            }
        };
        self.latest = Some((likeness, class));
        class
    }

    fn new_class(&mut self, tree: &Tree, id: InodeId) {
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
        let extended = self.extended(tree, id);
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

    fn extended(&mut self, tree: &Tree, id: InodeId) -> u64 {
        let Some(extended) = tree.extended(id) else { return 0 };
        let mut bytes = Vec::new();
        let access = extended.access.as_ref().map(xattr::encode);
        let default = extended.default.as_ref().map(xattr::encode);
        let capabilities = extended.capabilities.as_ref().map(|caps| xattr::encode_capabilities(Some(caps)));
        let mut columns = Writer::default();
        for value in [access, default, capabilities] {
            columns.sized(Column::NewExtended, &value.unwrap_or_default());
        }
        self.label_lost |= extended.label.is_some() && !self.labelled;
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
