//! From files to one tree of nodes: variables, relative paths, `include`, `extends`, several files merged.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Component, Path, PathBuf};

use super::environment::environment;
use super::interpolate::{DEEPEST_NESTING, LONGEST, Trouble, interpolate};
use super::merge::merge;
use super::setting::{Setting, Settings};
use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::{Node, Value, parse};

/// Files that `include` and `extends` may lead through, one from the other.
const DEEPEST: usize = 32;

/// A file that was read, with what it includes and extends; `None` where it cannot be used, which was said.
struct Read(Option<Node>);

pub(super) struct Loader<'a> {
    pub files: &'a dyn FileReader,
    pub diagnostics: &'a mut Diagnostics,
    texts: Vec<SourceText>,
    length: usize,
    /// What is being read is read in.
    pub setting: Setting,
    pub settings: Settings,
    unset: Vec<String>,
    depth: usize,
    /// Every file that another one names, by its whole path, its folder and its setting: each is read once.
    read: BTreeMap<(String, String, usize), Read>,
    /// Whole paths of those that are being read.
    under_way: Vec<String>,
}

impl<'a> Loader<'a> {
    /// A loader for a project in `folder`, whose `.env` counts.
    pub(super) fn new(files: &'a dyn FileReader, folder: &Path, diagnostics: &'a mut Diagnostics) -> Self {
        let path = folder.join(".env");
        let variables = match files.read(&path) {
            Ok(bytes) => environment(&path, &bytes, diagnostics),
            Err(_) => BTreeMap::new(),
        };
        let (texts, unset, read) = (Vec::new(), Vec::new(), BTreeMap::new());
        let setting = Setting { variables, number: 0 };
        let (settings, under_way) = (BTreeMap::new(), Vec::new());
        Self { files, diagnostics, texts, length: 0, setting, settings, unset, depth: 0, read, under_way }
    }

    pub(super) fn variable(&self, name: &str) -> Option<String> {
        self.files.variable(name).or_else(|| self.setting.variables.get(name).cloned())
    }

    /// The variables of `.env`.
    pub(super) fn variables(self) -> BTreeMap<String, String> {
        self.setting.variables
    }

    /// Everything that was read, so that spans point into it.
    pub(super) fn joined(&self) -> SourceText {
        SourceText::joined(&self.texts)
    }

    /// Names of variables that had neither a value nor a default.
    pub(super) fn unset(&mut self) -> Vec<String> {
        let mut names = std::mem::take(&mut self.unset);
        names.sort();
        names.dedup();
        names
    }

    /// The file at `path` with what it includes and extends, whose relative paths begin at `folder`; `named` is where another one names
    /// it.
    pub(super) fn file(&mut self, path: &Path, folder: &Path, named: &Range<usize>) -> Option<Node> {
        let whole = clean(&self.files.absolute(path));
        if self.under_way.contains(&whole) {
            self.error(named, format!("{} includes or extends itself", path.display()));
            return None;
        }
        let key = (whole.clone(), clean(&self.files.absolute(folder)), self.setting.number);
        if let Some(Read(node)) = self.read.get(&key) {
            return node.clone();
        }
        self.under_way.push(whole);
        let node = self.unread(path, folder, named);
        self.under_way.pop();
        self.read.insert(key, Read(node.clone()));
        node
    }

    fn unread(&mut self, path: &Path, folder: &Path, named: &Range<usize>) -> Option<Node> {
        let name = path.display().to_string();
        let text = self.files.read(path).map_err(|error| error.to_string());
        let text = text.and_then(|bytes| String::from_utf8(bytes).map_err(|_| "it is not UTF-8".to_owned()));
        match text {
            Ok(text) => self.text(&SourceText::new(&name, &text), folder),
            Err(error) => {
                self.error(named, format!("{name} cannot be read: {error}"));
                None
            }
        }
    }

    /// One text whose relative paths begin at `folder`.
    fn text(&mut self, source: &SourceText, folder: &Path) -> Option<Node> {
        let node = parse(source, self.diagnostics).into_iter().next()?;
        self.node(node, source, folder)
    }

    /// The same, already parsed.
    pub(super) fn node(&mut self, mut node: Node, source: &SourceText, folder: &Path) -> Option<Node> {
        if self.depth > DEEPEST {
            let span = self.length.saturating_sub(1)..self.length;
            self.error(&span, format!("more than {DEEPEST} files include or extend one another in a row"));
            return None;
        }
        // Variables are replaced before files are merged: each file may have a folder, but all have one environment.
        self.replace(&mut node, source);
        // Paths belong to the file they are written in, so they are made absolute before it is merged into another.
        super::casts::cast(&mut node);
        // Whose home `~` is, is known where the volume is read.
        let absolute = |path: &str| clean(&self.files.absolute(&folder.join(path)));
        relative(&mut node, &|path| if path.starts_with('~') { path.to_owned() } else { absolute(path) });
        // Places are kept as if all files were one text, so that a merged node still says which file it came from.
        shift(&mut node, self.length);
        self.length += source.joined_length();
        self.texts.push(source.clone());
        self.depth += 1;
        let mut whole = self.included(&node, folder);
        whole = Some(match whole {
            Some(lower) => merge(lower, node, ""),
            None => node,
        });
        // What is included is below the file that includes it, and `extends` may name a service of either.
        let extended = whole.and_then(|node| self.extended(node, folder));
        self.depth -= 1;
        extended
    }

    /// Variables in every value.
    fn replace(&mut self, node: &mut Node, source: &SourceText) {
        let span = node.span.clone();
        match &mut node.value {
            Value::Scalar { text, .. } if text.contains('$') => {
                let mut unset = Vec::new();
                match interpolate(text, &|name| self.variable(name), &mut unset) {
                    Ok(new) => *text = new,
                    Err(Trouble::Required { name, why }) => {
                        let help = (!why.is_empty()).then_some(why);
                        let message = format!("the variable {name} has no value, and the file requires one");
                        self.diagnostics.add(Severity::Error, source, &span, message, help);
                    }
                    Err(Trouble::Long) => {
                        let message = format!("with its variables it is longer than {LONGEST} bytes");
                        self.diagnostics.add(Severity::Error, source, &span, message, None);
                    }
                    Err(Trouble::Deep) => {
                        let message =
                            format!("more than {DEEPEST_NESTING} variables are nested in one another");
                        self.diagnostics.add(Severity::Error, source, &span, message, None);
                    }
                    Err(Trouble::Form) => {
                        let help = Some("write $$ for a plain dollar sign".to_owned());
                        self.diagnostics.add(
                            Severity::Error,
                            source,
                            &span,
                            "a `$` that names no variable",
                            help,
                        );
                    }
                }
                self.unset.append(&mut unset);
            }
            Value::Scalar { .. } => {}
            Value::Sequence(items) => items.iter_mut().for_each(|item| self.replace(item, source)),
            Value::Mapping(pairs) => pairs.iter_mut().for_each(|(_, value)| self.replace(value, source)),
        }
    }

    pub(super) fn error(&mut self, span: &Range<usize>, message: String) {
        let source = self.joined();
        self.diagnostics.add(Severity::Error, &source, span, message, None);
    }
}

/// Moves every span by `by` bytes.
fn shift(node: &mut Node, by: usize) {
    node.span = node.span.start + by..node.span.end + by;
    match &mut node.value {
        Value::Scalar { .. } => {}
        Value::Sequence(items) => items.iter_mut().for_each(|item| shift(item, by)),
        Value::Mapping(pairs) => pairs.iter_mut().for_each(|(key, value)| {
            shift(key, by);
            shift(value, by);
        }),
    }
}

/// Host paths that begin at the file's folder become absolute, since files of several folders may be merged.
fn relative(node: &mut Node, absolute: &dyn Fn(&str) -> String) {
    let Value::Mapping(top) = &mut node.value else { return };
    for (key, section) in top {
        let Value::Mapping(entries) = &mut section.value else { continue };
        for (_, entry) in entries {
            match key.text() {
                Some("services") => service_paths(entry, absolute),
                Some("secrets" | "configs") => text_at(entry, "file", absolute),
                Some("volumes") => {
                    if let Value::Mapping(fields) = &mut entry.value {
                        let options = fields.iter_mut().find(|(key, _)| key.text() == Some("driver_opts"));
                        options.into_iter().for_each(|(_, options)| {
                            text_at(options, "device", &|path| {
                                // A device may also be an NFS export or a disk, which are no paths of the project.
                                if path.starts_with('.') { absolute(path) } else { path.to_owned() }
                            })
                        });
                    }
                }
                _ => {}
            }
        }
    }
}

fn service_paths(service: &mut Node, absolute: &dyn Fn(&str) -> String) {
    let Value::Mapping(fields) = &mut service.value else { return };
    if let Some((_, build)) = fields.iter_mut().find(|(key, _)| key.text() == Some("build")) {
        let here = |path: &str| if super::build::is_remote(path) { path.to_owned() } else { absolute(path) };
        match &mut build.value {
            Value::Scalar { text, .. } => *text = here(text),
            Value::Mapping(_) | Value::Sequence(_) => text_at(build, "context", &here),
        }
    }
    let Some((_, volumes)) = fields.iter_mut().find(|(key, _)| key.text() == Some("volumes")) else { return };
    let Value::Sequence(items) = &mut volumes.value else { return };
    for item in items {
        let bind = item.get("type").and_then(Node::text) == Some("bind");
        if let Value::Scalar { text, .. } = &mut item.value {
            if let Some((source, rest)) = text.split_once(':')
                && super::volumes::is_path(source)
            {
                *text = format!("{}:{rest}", absolute(source));
            }
        } else if bind {
            text_at(item, "source", absolute);
        }
    }
}

fn text_at(node: &mut Node, key: &str, change: &dyn Fn(&str) -> String) {
    let Value::Mapping(fields) = &mut node.value else { return };
    let Some((_, field)) = fields.iter_mut().find(|(known, _)| known.text() == Some(key)) else { return };
    if let Value::Scalar { text, .. } = &mut field.value {
        *text = change(text);
    }
}

/// An absolute path without `.` and `..`.
pub(super) fn clean(path: &Path) -> String {
    let mut out = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                out.pop();
            }
            Component::Normal(_) | Component::RootDir | Component::Prefix(_) => out.push(part),
        }
    }
    out.display().to_string()
}
