//! Inline trees.

use std::sync::Arc;

use mivask_core::acl::Acl;
use mivask_core::act::quoted;
use mivask_core::caps::{FileCapabilities, FileCapabilitiesError};
use mivask_core::fact::Unknown;
use mivask_core::ids::DiskOwner;
use mivask_core::mode::{FileKind, Mode};
use mivask_core::tree::{Certainty, Content, Doubt, Entry, Marks, Tree, TreeBuilder};
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;

use super::convert::Reading;
use super::tree_source::{FlagWord, KindWord, LayerWord, TreeEntry, TreeSource};
use crate::diagnostic::{Diagnostics, Severity};
use crate::disk;
use crate::text::SourceText;
use crate::yaml::Node;
use crate::yaml::RawText;

impl Reading<'_> {
    /// The tree of `what` that `given` names or lists; `node` is where it is.
    pub(super) fn tree(&mut self, what: &str, given: &TreeSource, node: &Node) -> Option<Arc<Tree>> {
        match given {
            TreeSource::Listed(entries) => tree(what, entries, node, self.source, self.diagnostics),
            TreeSource::Named(path) => self.named_tree(path, node),
        }
    }

    fn named_tree(&mut self, path: &str, node: &Node) -> Option<Arc<Tree>> {
        self.gathered(path, &Choice::default(), node).map(|(_, gathered)| gathered.tree)
    }

    /// What the source at `path` gives, and its name; a mistake in it is a diagnostic.
    pub(super) fn gathered(
        &mut self,
        path: &str,
        choice: &Choice,
        node: &Node,
    ) -> Option<(String, Gathered)> {
        match self.gather(path, choice) {
            Ok((shown, gathered)) => {
                if let Some(message) = disk::holes(&shown, gathered.holes) {
                    self.diagnostics.add(Severity::Warning, self.source, &node.span, message, None);
                }
                Some((shown, gathered))
            }
            Err(error) => {
                disk::diagnostic(&error, (self.source, &node.span), self.diagnostics);
                None
            }
        }
    }
}

/// The tree of `what` that `entries` list; `node` is the list they were read from.
fn tree(
    what: &str,
    entries: &[TreeEntry],
    node: &Node,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<Arc<Tree>> {
    let origin = source.place(&node.span, "tree");
    let mut builder = TreeBuilder::new(origin, what);
    let mut links = Vec::new();
    for (index, entry) in entries.iter().enumerate() {
        let Some(item) = node.item(index) else {
            continue;
        };
        let reader = EntryReader { entry, item, source };
        if !entry.path.starts_with('/') {
            reader.error(
                "path",
                "the path is not absolute",
                Some(format!("write /{}", entry.path)),
                diagnostics,
            );
            continue;
        }
        if let Some(first) = &entry.same_file_as {
            links.push((entry.path.as_bytes(), first.as_bytes(), reader));
            continue;
        }
        if let Some(inode) = reader.inode(diagnostics)
            && let Err(error) = builder.add(entry.path.as_bytes(), inode)
        {
            reader.error("path", &error.to_string(), None, diagnostics);
        }
    }
    match builder.finish() {
        Ok(mut tree) => {
            for (path, first, reader) in links {
                link(&mut tree, path, first, &reader, diagnostics);
            }
            Some(Arc::new(tree))
        }
        Err((path, error)) => {
            let same = |entry: &&TreeEntry| entry.path.trim_matches('/').as_bytes() == path;
            let place = entries
                .iter()
                .rposition(|entry| same(&entry))
                .and_then(|index| node.item(index))
                .unwrap_or(node);
            diagnostics.add(
                Severity::Error,
                source,
                &place.span,
                format!("{}: {error}", quoted(&path)),
                None,
            );
            None
        }
    }
}

fn link(tree: &mut Tree, path: &[u8], first: &[u8], reader: &EntryReader<'_>, diagnostics: &mut Diagnostics) {
    let slash = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
    let parts = tree.find(&path[..slash]).zip(tree.find(first));
    let linked = parts.is_some_and(|(dir, inode)| tree.link(dir, &path[slash + 1..], inode).is_ok());
    if !linked {
        let help = Some("list that file and the directory of this name in the same tree".to_owned());
        reader.error("same-file-as", "this name cannot be given to that file", help, diagnostics);
    }
}

#[derive(Clone, Copy)]
struct EntryReader<'a> {
    entry: &'a TreeEntry,
    item: &'a Node,
    source: &'a SourceText,
}

impl EntryReader<'_> {
    fn error(&self, key: &str, message: &str, help: Option<String>, diagnostics: &mut Diagnostics) {
        let span = &self.item.get(key).unwrap_or(self.item).span;
        diagnostics.add(Severity::Error, self.source, span, message, help);
    }

    fn inode(&self, diagnostics: &mut Diagnostics) -> Option<Entry> {
        let kind = kind(self.entry.kind);
        let owner = self.parsed(
            "owner",
            self.entry.owner.as_ref(),
            RawText::disk_owner,
            "write UID:GID, such as 7101:7200",
            diagnostics,
        )?;
        let mode = self.parsed(
            "mode",
            self.entry.mode.as_ref(),
            RawText::mode,
            "write four octal digits, such as 0640",
            diagnostics,
        )?;
        let link_mode = (kind == FileKind::Link).then_some(Mode::new(0o777));
        let told_mode = mode.or(link_mode);
        let stored = owner.unwrap_or(DiskOwner::new(0, 0));
        let mut inode = Entry::new(kind, stored.uid.raw(), stored.gid.raw(), told_mode.unwrap_or_default());
        let owner = self.given(owner.is_some(), "owner");
        let mode = self.given(told_mode.is_some(), "mode");
        inode = inode.doubting(Doubt { owner, mode, ..Doubt::default() });
        inode.place = Some(self.source.place(&self.item.span, "tree"));
        inode.target = self.entry.target.as_deref().unwrap_or_default().as_bytes().into();
        if kind == FileKind::Link && inode.target.is_empty() {
            self.error("path", "a link needs a `target`", None, diagnostics);
        }
        inode.extended.access = self.acl("acl", self.entry.acl.as_deref(), inode.mode, diagnostics);
        inode.extended.capabilities = self.capabilities(diagnostics);
        inode.extended.default =
            self.acl("default-acl", self.entry.default_acl.as_deref(), inode.mode, diagnostics);
        inode.extended.label = self.entry.label.as_deref().map(Arc::from);
        inode.content = self.content(diagnostics);
        inode.device = self.parsed(
            "device",
            self.entry.device.as_ref(),
            RawText::device,
            "write MAJOR:MINOR, such as 1:3",
            diagnostics,
        )?;
        for flag in &self.entry.flags {
            inode.marks = inode.marks.with(match flag {
                FlagWord::Immutable => Marks::IMMUTABLE,
                FlagWord::AppendOnly => Marks::APPEND_ONLY,
            });
        }
        inode.marks = inode.marks.with(match self.entry.layer {
            None => Marks::default(),
            Some(LayerWord::Lower) => Marks::LOWER,
            Some(LayerWord::Upper) => Marks::UPPER,
            Some(LayerWord::Both) => Marks::LOWER.with(Marks::MERGED),
        });
        Some(inode)
    }

    /// Whether `what` is known of the entry.
    fn given(&self, given: bool, what: &str) -> Certainty {
        if given {
            return Certainty::Known;
        }
        let fact = format!("the {what} of {}", quoted(self.entry.path.as_bytes()));
        Certainty::Unknown(Unknown::new(&fact, "give it in the tree of the scene file"))
    }

    fn capabilities(&self, diagnostics: &mut Diagnostics) -> Option<FileCapabilities> {
        match self.entry.capabilities.as_deref()?.parse() {
            Ok(capabilities) => Some(capabilities),
            Err(error) => {
                let error: FileCapabilitiesError = error;
                self.error("capabilities", &error.to_string(), None, diagnostics);
                None
            }
        }
    }

    /// `Some(None)` where nothing was given, `None` where it does not parse.
    #[expect(clippy::option_option, reason = "left out and mistaken differ")]
    fn parsed<T>(
        &self,
        key: &str,
        text: Option<&RawText>,
        parse: fn(&RawText) -> Option<T>,
        help: &str,
        diagnostics: &mut Diagnostics,
    ) -> Option<Option<T>> {
        let Some(text) = text else { return Some(None) };
        let parsed = parse(text);
        if parsed.is_none() {
            self.error(
                key,
                &format!("`{}` is not a valid {key}", text.0.escape_debug()),
                Some(help.to_owned()),
                diagnostics,
            );
        }
        parsed.map(Some)
    }

    fn acl(&self, key: &str, text: Option<&str>, mode: Mode, diagnostics: &mut Diagnostics) -> Option<Acl> {
        match Acl::parse(text?, mode) {
            Ok(acl) => Some(acl),
            Err(error) => {
                self.error(key, &error.to_string(), None, diagnostics);
                None
            }
        }
    }

    fn content(&self, diagnostics: &mut Diagnostics) -> Content {
        match self.entry.content.as_deref() {
            None => Content::Unknown,
            Some("program") => Content::Program,
            Some("data") => Content::Data,
            Some("empty") => Content::Empty,
            Some(text) => match text.strip_prefix("#!").map(str::trim).filter(|path| path.starts_with('/')) {
                Some(line) => {
                    let interpreter = line.split_whitespace().next().unwrap_or_default();
                    Content::Script(interpreter.as_bytes().into())
                }
                None => {
                    let help = "write program, data, empty, or #!/path/of/interpreter".to_owned();
                    self.error("content", "this is not content", Some(help), diagnostics);
                    Content::Unknown
                }
            },
        }
    }
}

const fn kind(word: KindWord) -> FileKind {
    match word {
        KindWord::File => FileKind::File,
        KindWord::Dir => FileKind::Directory,
        KindWord::Link => FileKind::Link,
        KindWord::Fifo => FileKind::Fifo,
        KindWord::Socket => FileKind::Socket,
        KindWord::Char => FileKind::CharDevice,
        KindWord::Block => FileKind::BlockDevice,
    }
}
