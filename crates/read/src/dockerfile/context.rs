//! The build context: the files that `COPY` and `ADD` may take, without those that `.dockerignore` leaves out.

use std::io::Read;
use std::path::{Component, Path, PathBuf};

use globset::{GlobBuilder, GlobMatcher};
use mivask_core::fact::{Provenance, Unknown};
use mivask_core::mode::{FileKind, Mode};
use mivask_core::recipe::CopySource;
use mivask_core::tree::{Certainty, Content, Doubt, Entry, Tree, TreeError};

use crate::files::{FileReader, Found};

/// Bytes that tell what a file is: the kernel looks at as many (`BINPRM_BUF_SIZE`).
const HEAD: usize = 256;

/// Files of a context that are all looked into.
const FEW: usize = 1_000;

/// Files that are listed of one context; a larger one stays open.
const MOST_FILES: usize = 50_000;

/// Links that are followed one after the other, as by the kernel.
const MOST_LINKS: usize = 40;

pub(super) struct Context<'a> {
    files: &'a dyn FileReader,
    folder: PathBuf,
    /// Patterns with whether each takes files back in; the last that matches decides.
    ignored: Vec<(GlobMatcher, bool)>,
}

impl<'a> Context<'a> {
    pub(super) fn new(files: &'a dyn FileReader, folder: &Path) -> Self {
        let text = files.read(&folder.join(".dockerignore")).unwrap_or_default();
        let text = String::from_utf8_lossy(&text).into_owned();
        let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        let pattern = |line: &str| {
            let (text, back) = line.strip_prefix('!').map_or((line, false), |rest| (rest, true));
            Some((glob(text.trim().trim_matches('/'))?, back))
        };
        Self { files, folder: folder.to_path_buf(), ignored: lines.filter_map(pattern).collect() }
    }

    /// The sources that `paths` name and the files they need, each at its path from the context's root.
    ///
    /// # Errors
    /// The path that is outside the context.
    pub(super) fn sources(&self, paths: &[String]) -> Result<(Vec<CopySource>, Tree), String> {
        let origin = Provenance::rule("the build context");
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), origin);
        let mut sources = Vec::new();
        for path in paths {
            let relative = inside(path).ok_or_else(|| path.clone())?;
            let wild = relative.to_str().filter(|text| text.contains(['*', '?', '[']));
            let found = match wild.and_then(glob) {
                Some(pattern) => self.matching(&pattern),
                None => vec![relative],
            };
            for path in found {
                self.add(&mut tree, &path);
                self.follow(&mut tree, &path);
                sources.push(CopySource::Path(path.as_os_str().as_encoded_bytes().to_vec()));
            }
        }
        Ok((sources, tree))
    }

    /// What an archive begins with: `ADD` unpacks it.
    pub(super) fn is_archive(&self, path: &[u8]) -> bool {
        let Ok(path) = std::str::from_utf8(path) else { return false };
        let mut bytes = Vec::new();
        let head =
            self.files.open(&self.folder.join(path)).map(|file| file.take(512).read_to_end(&mut bytes));
        if !matches!(head, Ok(Ok(_))) {
            return false;
        }
        let packed = [&b"\x1f\x8b"[..], b"BZh", b"\xfd7zXZ", b"\x28\xb5\x2f\xfd"];
        packed.iter().any(|magic| bytes.starts_with(magic)) || bytes.get(257..262) == Some(b"ustar")
    }

    /// Adds what the link at `path` leads to, since a source that is a link is what it points at. The context is the root of every
    /// target, as for the builders.
    fn follow(&self, tree: &mut Tree, path: &Path) {
        let mut path = path.to_path_buf();
        for _ in 0..MOST_LINKS {
            let Some(Found { kind: FileKind::Link, target, .. }) = self.look(&path) else { return };
            let Ok(target) = String::from_utf8(target) else { return };
            let above = path.parent().filter(|_| !target.starts_with('/')).unwrap_or(Path::new(""));
            let Some(next) = above.join(target.trim_start_matches('/')).to_str().and_then(inside) else {
                return;
            };
            self.add(tree, &next);
            path = next;
        }
    }

    fn leaves_out(&self, path: &Path) -> bool {
        let parts = || path.ancestors().filter(|part| !part.as_os_str().is_empty());
        let matches = |glob: &GlobMatcher| parts().any(|part| glob.is_match(part));
        self.ignored.iter().rev().find(|(glob, _)| matches(glob)).is_some_and(|(_, back)| !back)
    }

    /// Everything in the context that a pattern matches.
    fn matching(&self, pattern: &GlobMatcher) -> Vec<PathBuf> {
        let mut found = Vec::new();
        let mut pending = vec![PathBuf::new()];
        let mut seen = 0;
        while let Some(folder) = pending.pop() {
            for path in self.inside(&folder) {
                seen += 1;
                if seen > MOST_FILES {
                    return found;
                }
                if pattern.is_match(&path) && !self.leaves_out(&path) {
                    found.push(path);
                } else if matches!(self.look(&path), Some(Found { kind: FileKind::Directory, .. })) {
                    pending.push(path);
                }
            }
        }
        found.sort();
        found
    }

    /// The paths directly in a folder, from the context's root.
    fn inside(&self, folder: &Path) -> Vec<PathBuf> {
        let entries = self.files.folder(&self.folder.join(folder)).ok().flatten().unwrap_or_default();
        let relative = |path: PathBuf| path.strip_prefix(&self.folder).map(Path::to_path_buf).ok();
        let mut entries: Vec<PathBuf> = entries.into_iter().filter_map(relative).collect();
        entries.sort();
        entries
    }

    fn look(&self, path: &Path) -> Option<Found> {
        self.files.look(&self.folder.join(path)).ok()
    }

    /// What execve would find in a file, as its first bytes tell; in large contexts only of those that may be run, though a build may
    /// make others so.
    fn content(&self, path: &Path, found: &Found, all: bool) -> Content {
        let may_run = all || found.mode.is_some_and(|mode| mode.has_any(Mode::ANY_EXECUTE));
        let runs = found.kind == FileKind::File && may_run;
        if !runs {
            return Content::Unknown;
        }
        let head = self.files.head(&self.folder.join(path), HEAD);
        head.map_or(Content::Unknown, |head| mivask_disk::program::content(&head))
    }

    /// Adds `path` with what is below it.
    fn add(&self, tree: &mut Tree, path: &Path) {
        let mut pending = vec![path.to_path_buf()];
        while let Some(path) = pending.pop() {
            let Some(found) = self.look(&path) else { continue };
            if self.leaves_out(&path) {
                // Something in it may be taken back in.
                if found.kind == FileKind::Directory && self.ignored.iter().any(|(_, back)| *back) {
                    pending.extend(self.inside(&path));
                }
                continue;
            }
            if tree.len() > MOST_FILES {
                let unknown = Unknown::new(
                    "what else the build context holds",
                    "give the tree of the built image in a scene file",
                );
                return tree_stays_open(tree, &unknown);
            }
            // A name that is listed already stays as it is.
            let content = self.content(&path, &found, tree.len() <= FEW);
            if put(tree, &path, &found, content).is_ok() && found.kind == FileKind::Directory {
                pending.extend(self.inside(&path));
            }
        }
    }
}

fn tree_stays_open(tree: &mut Tree, unknown: &Unknown) {
    let doubt = Doubt::new(Certainty::Known, Certainty::Unknown(unknown.clone()));
    let root = Entry::directory(0, 0, 0o755).doubting(doubt);
    *tree = Tree::new(root, Provenance::Unknown(unknown.fact.clone()));
}

fn put(tree: &mut Tree, path: &Path, found: &Found, content: Content) -> Result<(), TreeError> {
    let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
        return Ok(());
    };
    let dir = tree.ensure(parent.as_os_str().as_encoded_bytes(), |_, _| Entry::directory(0, 0, 0o755))?;
    let mut entry = Entry::new(found.kind, 0, 0, found.mode.unwrap_or(Mode::new(0o644)));
    entry.target = found.target.clone().into();
    entry.content = content;
    if found.mode.is_none() {
        let fact = format!("the mode of {} in the build context", path.display());
        let attributes = Certainty::Unknown(Unknown::new(&fact, "build where the file is"));
        entry.doubt = Some(Doubt::new(attributes, Certainty::Known));
    }
    tree.add(dir, name.as_encoded_bytes(), entry).map(|_| ())
}

/// A path of the context without `.` and `..`; `None` where it leads out.
fn inside(path: &str) -> Option<PathBuf> {
    let mut out = PathBuf::new();
    for part in Path::new(path).components() {
        match part {
            Component::Normal(part) => out.push(part),
            Component::ParentDir => out.pop().then_some(())?,
            Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
        }
    }
    Some(out)
}

/// The pattern; its `*` stays within one folder, and braces are ordinary characters (Go's `filepath.Match`).
fn glob(text: &str) -> Option<GlobMatcher> {
    let plain = text.replace('{', "[{]").replace('}', "[}]");
    GlobBuilder::new(&plain).literal_separator(true).build().ok().map(|glob| glob.compile_matcher())
}

#[cfg(test)]
mod tests {
    use super::*;

    use std::collections::BTreeMap;
    use std::io;

    struct Memory(BTreeMap<&'static str, &'static str>);

    impl FileReader for Memory {
        fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
            let text = path.to_str().and_then(|path| self.0.get(path));
            text.map(|text| text.as_bytes().to_vec()).ok_or_else(|| io::ErrorKind::NotFound.into())
        }

        fn folder(&self, path: &Path) -> io::Result<Option<Vec<PathBuf>>> {
            let parts = self.0.keys().flat_map(|file| Path::new(file).ancestors());
            let mut inside: Vec<PathBuf> =
                parts.filter(|part| part.parent() == Some(path)).map(Path::to_path_buf).collect();
            inside.sort();
            inside.dedup();
            Ok((!inside.is_empty()).then_some(inside))
        }

        fn standard_input(&self) -> io::Result<Vec<u8>> {
            Ok(Vec::new())
        }
    }

    /// The paths that `sources` takes of a context with this ignore file.
    fn taken(ignore: &'static str, sources: &str) -> Result<String, String> {
        let files = [
            ("c/a.conf", ""),
            ("c/b.txt", ""),
            ("c/d/e/f.conf", ""),
            ("c/d/g", ""),
            ("c/.dockerignore", ignore),
        ];
        let files = Memory(files.into());
        let context = Context::new(&files, Path::new("c"));
        let sources: Vec<String> = sources.split(' ').map(str::to_owned).collect();
        let (_, tree) = context.sources(&sources)?;
        let all = ["a.conf", "b.txt", "d/e/f.conf", "d/g"];
        let there: Vec<&str> = all.into_iter().filter(|path| tree.find(path.as_bytes()).is_some()).collect();
        Ok(there.join(" "))
    }

    macro_rules! contexts {
        ($($name:ident: $ignore:literal, $sources:literal => $expected:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(taken($ignore, $sources).as_deref(), Ok($expected));
            }
        )+};
    }

    contexts! {
        everything: "", "." => "a.conf b.txt d/e/f.conf d/g";
        single_files: "", "a.conf ./d/../b.txt" => "a.conf b.txt";
        a_folder: "", "d" => "d/e/f.conf d/g";
        a_pattern_stays_in_one_folder: "", "*.conf" => "a.conf";
        a_pattern_of_folders: "", "d/*/*.conf" => "d/e/f.conf";
        left_out_by_name: "b.txt\n/d/g/\n# a.conf", "." => "a.conf d/e/f.conf";
        left_out_by_pattern: "*.txt", "." => "a.conf d/e/f.conf d/g";
        left_out_at_any_depth: "**/*.conf", "." => "b.txt d/g";
        left_out_but_for_one: "*\n!d/e", "." => "d/e/f.conf";
        the_last_pattern_counts: "!a.conf\na.*", "." => "b.txt d/e/f.conf d/g";
        left_out_though_named: "a.conf", "a.conf" => "";
    }

    #[test]
    fn nothing_outside_is_taken() {
        assert_eq!(taken("", "d/../../x"), Err("d/../../x".to_owned()));
    }
}
