//! From a survey to a tree.

use std::io::{self, Read};
use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{
    Certainty, Content, Device, Doubt, Entry, Extended, InodeId, Marks, Tree, Unrecorded,
};

use super::columns::{Column, Reader};
use super::error::SurveyError;
use super::frame::{FrameError, FrameReader, Kind};
use super::recorder::APART;
use super::values::{Trouble, extended, kind, tagged, wrong};
use super::{Head, MAGIC, MAGIC_LABELLED};
use crate::gathered::{Gathered, Holes};

/// Reads a survey, which is called `name` in answers. `bytes` is how many there are, if that is known: what a
/// damaged head claims is not believed beyond what so many bytes can hold.
///
/// # Errors
/// It is not a survey, it was cut, or a checksum does not fit.
pub fn read(input: &mut dyn Read, name: &str, bytes: Option<u64>) -> Result<Gathered, SurveyError> {
    read_named(input, name, bytes).map(|(_, gathered)| gathered)
}

/// The same with the name of the source in its head.
///
/// # Errors
/// As for [`read`].
pub fn read_named(
    input: &mut dyn Read,
    name: &str,
    bytes: Option<u64>,
) -> Result<(String, Gathered), SurveyError> {
    let mut magic = [0; MAGIC.len()];
    match input.read_exact(&mut magic) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Err(SurveyError::Magic),
        other => other?,
    }
    let labelled = &magic == MAGIC_LABELLED;
    if !labelled && &magic != MAGIC {
        // The number behind the name is the version, so a survey of a later one is told from a stranger's file.
        let ours = magic.starts_with(b"mivask-survey ");
        return Err(if ours { SurveyError::Version } else { SurveyError::Magic });
    }
    let mut frames = FrameReader::new(input, MAGIC.len() as u64)?;
    // An error names the frame that was being read, not the one that would come next.
    let mut at = frames.at;
    let read = everything(&mut frames, (name, labelled), bytes, &mut at);
    read.map_err(|trouble| match trouble {
        Trouble::Frame(FrameError::Io(error)) => SurveyError::Io(error),
        Trouble::Frame(FrameError::Cut) => SurveyError::Cut,
        Trouble::Frame(FrameError::Damaged(what)) => SurveyError::Damaged { what: what.to_owned(), at },
        Trouble::Content(what) => SurveyError::Damaged { what, at },
    })
}

fn everything(
    frames: &mut FrameReader<'_>,
    (name, labelled): (&str, bool),
    bytes: Option<u64>,
    at: &mut u64,
) -> Result<(String, Gathered), Trouble> {
    let (Kind::Head, head) = frames.next()? else {
        return wrong("the head is missing");
    };
    let head: Head = serde_json::from_slice(head)
        .map_err(|error| Trouble::Content(format!("the head does not read: {error}")))?;
    let mut planter = Planter { labelled, ..Planter::new(name, &head, bytes) };
    loop {
        let next = frames.next();
        let (kind, raw) = match next {
            Ok(frame) => frame,
            Err(error) => {
                *at = frames.at;
                return Err(error.into());
            }
        };
        match kind {
            Kind::Head => return wrong("a second head"),
            Kind::Directories => {
                let planted = planter.frame(raw);
                *at = frames.at;
                planted?;
            }
            Kind::End => {
                let count = std::str::from_utf8(raw).ok().and_then(|text| text.parse().ok());
                let tree = planter.finish(count)?;
                // Bytes behind the end would be covered by no checksum.
                if !frames.is_at_end().map_err(FrameError::Io)? {
                    return wrong("something follows its end");
                }
                let holes = Holes {
                    vanished: head.vanished,
                    denied: head.denied,
                    failed: head.failed,
                    boundaries: head.boundaries,
                };
                let given = head.image.give(Gathered::new(tree, holes));
                return given
                    .map(|given| (head.source, given))
                    .map_err(|error| Trouble::Content(format!("its account files: {error}")));
            }
        }
    }
}

/// One class: a model to copy, or the facts of one.
struct Class {
    entry: Entry,
    /// The first of its inodes, where others can be copied from it.
    model: Option<InodeId>,
}

struct Planter {
    tree: Option<Tree>,
    origin: Provenance,
    head: Head,
    /// Bytes that the file has for each inode it claims, at least.
    capacity: usize,
    classes: Vec<Class>,
    extended: Vec<Extended>,
    /// Whether these have labels.
    labelled: bool,
    scripts: Vec<Box<[u8]>>,
    /// Directories that are still to be listed.
    pending: Vec<InodeId>,
    /// The directory that goes on in the next frame.
    open: Option<InodeId>,
    /// Where the directories begin that the open one brought.
    first: usize,
}

impl Planter {
    fn new(name: &str, head: &Head, bytes: Option<u64>) -> Self {
        // The densest surveys have several inodes a byte; a larger claim is false.
        let most =
            bytes.map_or(1 << 20, |bytes| usize::try_from(bytes).unwrap_or(usize::MAX).saturating_mul(64));
        Self {
            tree: None,
            origin: Provenance::Source(Arc::from(name)),
            head: head.clone(),
            capacity: most,
            classes: Vec::new(),
            extended: Vec::new(),
            labelled: false,
            scripts: Vec::new(),
            pending: Vec::new(),
            open: None,
            first: 0,
        }
    }

    fn frame(&mut self, raw: &[u8]) -> Result<(), Trouble> {
        // Sets before classes before entries: each refers back to those that were read, never ahead.
        let mut columns = Reader::new(raw)?;
        while columns.has(Column::NewExtended) {
            self.extended.push(extended(&mut columns, self.labelled)?);
        }
        while columns.has(Column::NewScripts) {
            self.scripts.push(columns.sized(Column::NewScripts)?.into());
        }
        while columns.has(Column::NewClasses) {
            let entry = self.class(&mut columns)?;
            self.classes.push(Class { entry, model: None });
        }
        while columns.has(Column::Counts) {
            let given = columns.number(Column::Counts)?;
            let count = given / 2;
            let more = given % 2 == 1;
            if self.tree.is_none() {
                self.root(count, more, &mut columns)?;
                continue;
            }
            let dir = match self.open.take() {
                Some(dir) => dir,
                None => {
                    let Some(dir) = self.pending.pop() else { return wrong("a directory too many") };
                    self.first = self.pending.len();
                    dir
                }
            };
            self.directory(dir, count, &mut columns)?;
            if more {
                self.open = Some(dir);
            } else {
                // A stack gives the last one first, and the first subdirectory is to come next.
                self.pending[self.first..].reverse();
            }
        }
        while columns.has(Column::Doubts) {
            self.doubt(&mut columns)?;
        }
        Ok(())
    }

    fn root(&mut self, count: u64, more: bool, columns: &mut Reader<'_>) -> Result<(), Trouble> {
        let class = columns.word(Column::Classes)?.checked_sub(1);
        let class = class.and_then(|class| self.classes.get(class as usize));
        let Some(class) = class.filter(|class| class.entry.kind == FileKind::Directory) else {
            return wrong("the root is not a directory");
        };
        if count != 1 || more || columns.byte(Column::Shared)? != 0 || columns.byte(Column::Lengths)? != 0 {
            return wrong("the root is not a single entry");
        }
        let mut tree = Tree::new(class.entry.clone(), self.origin.clone());
        let claimed = |count: u32| (count as usize).min(self.capacity);
        let names = (self.head.name_bytes as usize).min(self.capacity.saturating_mul(16));
        tree.expect(claimed(self.head.inodes), claimed(self.head.directories), names);
        let [acls, capabilities, attributes] =
            self.head.unrecorded.each_ref().map(|text| text.as_deref().map(Arc::from));
        tree.set_unrecorded(Unrecorded { acls, capabilities, attributes });
        self.tree = Some(tree);
        self.pending.push(Tree::ROOT);
        Ok(())
    }

    fn directory(&mut self, dir: InodeId, count: u64, columns: &mut Reader<'_>) -> Result<(), Trouble> {
        let Some(tree) = &mut self.tree else { return wrong("the root is missing") };
        // Every entry takes bytes of this frame, so the count cannot exceed them.
        let count = usize::try_from(count).unwrap_or(usize::MAX);
        if count > super::frame::MOST_RAW {
            return wrong("a directory claims more entries than its frame holds");
        }
        tree.expect_entries(dir, count.min(1 << 20));
        let mut name: Vec<u8> = Vec::with_capacity(256);
        for _ in 0..count {
            let shared = usize::from(columns.byte(Column::Shared)?);
            let length = usize::from(columns.byte(Column::Lengths)?);
            if shared > name.len() {
                return wrong("a name shares more than there is");
            }
            // Sorted names share their beginnings, which are stored once.
            name.truncate(shared);
            name.extend_from_slice(columns.bytes(Column::Names, length)?);
            let Some(class) = columns.word(Column::Classes)?.checked_sub(1) else {
                let number = columns.word(Column::Links)?;
                let Some(inode) = tree.numbered(number) else { return wrong("a name of no inode") };
                tree.link(dir, &name, inode)?;
                continue;
            };
            let Some(class) = self.classes.get_mut(class as usize) else { return wrong("a class too many") };
            // Inodes of a class are copies of its first one, which takes no look at the class's parts again.
            let id = match class.model {
                Some(model) => tree.add_like(dir, &name, model)?,
                None => {
                    let mut entry = class.entry.clone();
                    if entry.kind == FileKind::Link {
                        entry.target = columns.sized(Column::Targets)?.into();
                    }
                    let id = tree.add(dir, &name, entry)?;
                    match class.entry.kind {
                        FileKind::Directory => self.pending.push(id),
                        FileKind::Link => {}
                        FileKind::File
                        | FileKind::Fifo
                        | FileKind::Socket
                        | FileKind::CharDevice
                        | FileKind::BlockDevice => class.model = Some(id),
                    }
                    id
                }
            };
            if columns.has(Column::Sizes)
                && class.entry.kind == FileKind::File
                && let Some(size) = columns.number(Column::Sizes)?.checked_sub(1)
            {
                tree.set_size(id, size);
            }
        }
        Ok(())
    }

    fn class(&self, columns: &mut Reader<'_>) -> Result<Entry, Trouble> {
        let column = Column::NewClasses;
        let Some(kind) = kind(columns.byte(column)?) else { return wrong("an unknown kind of file") };
        let marks = Marks::of_told(columns.byte(column)?);
        let mode = columns.word(column)?;
        let uid = columns.word(column)?;
        let gid = columns.word(column)?;
        let Ok(mode) = u16::try_from(mode) else { return wrong("a mode that is not one") };
        let mut entry = Entry::new(kind, uid, gid, Mode::new(mode));
        entry.marks = marks;
        if let Some(index) = columns.word(column)?.checked_sub(1) {
            let Some(extended) = self.extended.get(index as usize) else {
                return wrong("an ACL without an inode");
            };
            entry.extended = extended.clone();
        }
        entry.content = match columns.word(column)? {
            0 => Content::Unknown,
            1 => Content::Program,
            2 => Content::Data,
            3 => Content::Empty,
            script => match self.scripts.get(script as usize - 4) {
                Some(path) => Content::Script(path.clone()),
                None => return wrong("a script without an inode"),
            },
        };
        if columns.byte(column)? == 1 {
            entry.device = Some(Device { major: columns.word(column)?, minor: columns.word(column)? });
        }
        Ok(entry)
    }

    fn doubt(&mut self, columns: &mut Reader<'_>) -> Result<(), Trouble> {
        let number = columns.word(Column::Doubts)?;
        let Some(tree) = &mut self.tree else { return wrong("the root is missing") };
        let Some(id) = tree.numbered(number) else { return wrong("a doubt about nothing") };
        let tag = columns.byte(Column::Doubts)?;
        let doubt = if tag == APART {
            let owner = tagged(columns.byte(Column::Doubts)?, columns)?;
            let mode = tagged(columns.byte(Column::Doubts)?, columns)?;
            Doubt { owner, mode, ..Doubt::default() }
        } else {
            Doubt::new(tagged(tag, columns)?, Certainty::Known)
        };
        let contents = tagged(columns.byte(Column::Doubts)?, columns)?;
        tree.set_doubt(id, Doubt { contents, ..doubt });
        Ok(())
    }

    fn finish(mut self, count: Option<u64>) -> Result<Tree, Trouble> {
        let Some(tree) = self.tree.take() else { return wrong("there is no root") };
        if !self.pending.is_empty() || self.open.is_some() {
            return wrong("directories are missing");
        }
        // A frame that was left out would be found by its checksum; this finds a writer that lost count.
        if count != Some(tree.len() as u64) || tree.len() != self.head.inodes as usize {
            return wrong("the number of inodes does not fit");
        }
        Ok(tree)
    }
}
