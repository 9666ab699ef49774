//! `COPY`, `ADD` and `WORKDIR`.

use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Content, Doubt, Entry, InodeId, Spot, Tree};

use super::ground::{BuildState, Number};
use super::names::Found;
use crate::recipe::{BuildStep, Copy, CopyFrom, CopySource};
use crate::runtime::Chmod;
use mivask_model::ids::DiskOwner;

/// Who owns what is copied, and with which mode; the root and the source's where nothing is given.
struct Marking {
    owner: (Number, Number),
    owned: bool,
    /// Whether what comes from another image keeps its owner and every bit of its mode.
    kept: bool,
    mode: Option<Mode>,
    unknown_mode: Option<Unknown>,
}

impl BuildState<'_> {
    /// `COPY` or `ADD` from `tree`, which is called `whence`.
    pub(super) fn copy(&mut self, copy: &Copy, tree: &Tree, whence: &str, step: &BuildStep) {
        if copy.mode.is_some() && self.rules.chmod == Chmod::Refused {
            self.fail(&step.words, "--chmod needs BuildKit", &step.from);
        }
        let Some(owner) = self.copy_owner(copy.owner.as_deref(), step) else { return };
        let owned = copy.owner.is_some();
        // COPY --from keeps ids and modes of the other stage; what comes from the context is made 0:0.
        let kept = !owned && matches!(copy.from, CopyFrom::Other(_));
        let marking =
            Marking { owner, owned, kept, mode: copy.mode, unknown_mode: copy.unknown_mode.clone() };
        let to = self.absolute(&copy.to);
        // As cp does: a target that is a directory takes the source into it.
        let into = copy.sources.len() > 1 || to.ends_with(b"/") || self.is_directory(&to);
        for source in &copy.sources {
            let fact = format!("what {} puts at {}", step.words, mivask_model::act::quoted(&to));
            let unknown = Unknown::new(&fact, "give the tree of the built image in a scene file");
            match source {
                CopySource::Path(path) => match tree.resolve(path, true) {
                    Spot::There(id) if tree.inode(id).kind == FileKind::Directory => {
                        self.copy_directory(&to, tree, id, &marking, step);
                    }
                    Spot::There(_) if !into && self.may_be_directory(&to, path) => {
                        self.touched(&to, &unknown)
                    }
                    Spot::There(id) => {
                        let name = if into { path.rsplit(|byte| *byte == b'/').next() } else { None };
                        self.copy_file(&to, name, &leaf(tree, id), &marking, step);
                    }
                    Spot::Unlisted { .. } => self.touched_or_made(&to, &unknown),
                    Spot::Missing { .. } | Spot::Nowhere(_) => {
                        let path = mivask_model::act::quoted(path);
                        self.fail(&step.words, &format!("{path} is not in {whence}"), &step.from);
                    }
                },
                CopySource::Made(name) if !name.is_empty() || !into => {
                    let mut entry = Entry::file(0, 0, 0o644);
                    let mode = Unknown::new(
                        &format!("the mode that {} gives", step.words),
                        "name it there with --chmod",
                    );
                    let attributes = Certainty::Unknown(mode);
                    entry.doubt = Some(Doubt::new(attributes, Certainty::Known));
                    self.copy_file(&to, into.then_some(name.as_slice()), &entry, &marking, step);
                }
                CopySource::Made(_) | CopySource::Archive => {
                    // Its own ids and modes are kept, whatever --chown says.
                    self.ensure(&to, (&(Ok(0), Ok(0)), false), &step.from, step);
                    self.touched(&to, &unknown);
                }
            }
        }
    }

    fn is_directory(&self, path: &[u8]) -> bool {
        matches!(self.tree.resolve(path, true),
            Spot::There(id) if self.tree.inode(id).kind == FileKind::Directory)
    }

    /// Whether a file is to be copied to what may well be a directory that is not listed: it has neither a slash at its
    /// end nor the look of a file's name.
    fn may_be_directory(&self, to: &[u8], source: &[u8]) -> bool {
        let name = |path: &[u8]| path.rsplit(|byte| *byte == b'/').next().unwrap_or_default().to_vec();
        let looks_like_a_file = name(to) == name(source) || name(to).contains(&b'.');
        !looks_like_a_file && matches!(self.tree.resolve(to, true), Spot::Unlisted { .. })
    }

    fn touched_or_made(&mut self, path: &[u8], unknown: &Unknown) {
        if let Spot::Missing { dir, .. } = self.tree.resolve(path, true) {
            self.may_hold_more(dir, unknown);
        } else {
            self.touched(path, unknown);
        }
    }

    /// `--chown`: numbers before names; `None` where the build fails on it.
    fn copy_owner(&mut self, text: Option<&str>, step: &BuildStep) -> Option<(Number, Number)> {
        let Some(text) = text else { return Some((Ok(0), Ok(0))) };
        let (user, group) = text.split_once(':').map_or((text, None), |(user, group)| (user, Some(group)));
        let account = |ground: &Self| (!user.is_empty()).then(|| ground.account(user));
        let uid = match (user.parse(), user.is_empty()) {
            (Ok(uid), _) => Ok(uid),
            (Err(_), true) if self.rules.group_alone => Ok(0),
            (Err(_), true) => {
                self.fail(&step.words, "--chown names no user", &step.from);
                return None;
            }
            (Err(_), false) => {
                let (uid, _) = account(self)?;
                self.owner_of(uid, ("user", user), step)?
            }
        };
        let gid = match (group, user.parse::<u32>()) {
            (Some(group), _) => match group.parse() {
                Ok(gid) => Ok(gid),
                Err(_) => {
                    let found = self.group(group);
                    self.owner_of(found, ("group", group), step)?
                }
            },
            (None, Ok(uid)) => Ok(uid),
            (None, Err(_)) if self.rules.owner_needs_group_of_its_name => {
                let found = self.group(user);
                self.owner_of(found, ("group", user), step)?
            }
            (None, Err(_)) => {
                let (_, gid) = account(self)?;
                self.owner_of(gid, ("user", user), step)?
            }
        };
        Some((uid, gid))
    }

    fn owner_of(&mut self, found: Found, (what, name): (&str, &str), step: &BuildStep) -> Option<Number> {
        match found {
            Found::Number(number) => Some(number),
            Found::Missing if self.rules.missing_owner_is_root => {
                self.assume(format!(
                    "{} takes root for the {what} `{name}`, whom the image has not, as BuildKit of Docker 20.10 does",
                    step.words
                ));
                Some(Ok(0))
            }
            Found::Missing => {
                self.fail(&step.words, &format!("the image has no {what} `{name}`"), &step.from);
                None
            }
        }
    }

    /// Gives a directory the owner of a marking's parents, for directories that are made above what is copied.
    fn parents(&mut self, path: &[u8], marking: &Marking, file: bool, step: &BuildStep) -> Option<InodeId> {
        let owned = marking.owned && (file || self.rules.owns_parents_of_directories);
        let owner = if owned { marking.owner.clone() } else { (Ok(0), Ok(0)) };
        self.ensure(path, (&owner, owned), &step.from, step)
    }

    /// One file at `to`, or as `name` in the directory that `to` is.
    fn copy_file(
        &mut self,
        to: &[u8],
        name: Option<&[u8]>,
        file: &Entry,
        marking: &Marking,
        step: &BuildStep,
    ) {
        let (directory, name) = match name {
            Some(name) => (to.to_vec(), name.to_vec()),
            None => {
                let end = to.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
                (to[..end].to_vec(), to[end + 1..].to_vec())
            }
        };
        let Some(dir) = self.parents(&directory, marking, true, step) else { return };
        self.lay(dir, &name, file, marking, step);
    }

    /// What a directory holds goes into the one at `to`; only a new one becomes the marking's.
    fn copy_directory(&mut self, to: &[u8], tree: &Tree, from: InodeId, marking: &Marking, step: &BuildStep) {
        let mut pending = Vec::new();
        let new = !self.is_directory(to);
        if new {
            let trimmed = to.iter().rposition(|byte| *byte != b'/').map_or(&b"/"[..], |end| &to[..=end]);
            let end = trimmed.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
            if self.parents(&trimmed[..end], marking, false, step).is_none() {
                return;
            }
        }
        let Some(top) = self.ensure(to, (&marking.owner, marking.owned), &step.from, step) else { return };
        pending.push((top, from));
        while let Some((here, there)) = pending.pop() {
            if let Some(doubt) = tree.doubt(there)
                && let Certainty::Unknown(unknown) = &doubt.contents
            {
                self.may_hold_more(here, unknown);
            }
            for (name, child) in tree.children(there).map(|(name, child)| (name.to_vec(), child)) {
                let placed = self.lay(here, &name, &leaf(tree, child), marking, step);
                if let Some(placed) = placed
                    && tree.inode(child).kind == FileKind::Directory
                {
                    pending.push((placed, child));
                }
            }
        }
    }

    /// One file or directory as `name` in `dir`. A directory that is there keeps its owner and mode.
    fn lay(
        &mut self,
        dir: InodeId,
        name: &[u8],
        source: &Entry,
        marking: &Marking,
        step: &BuildStep,
    ) -> Option<InodeId> {
        let directory = source.kind == FileKind::Directory;
        let kept = if directory { self.rules.directory_bits } else { self.rules.file_bits };
        let kept = if marking.kept { 0o7000 } else { kept };
        let special = source.mode.masked(Mode::new(kept));
        let mode = source.mode.without(Mode::new(0o7000)).with(special);
        let asked = marking.mode.map(|asked| match self.rules.chmod {
            Chmod::Permissions => asked.masked(Mode::new(0o777)).with(special),
            Chmod::Everything | Chmod::Refused => asked,
        });
        let mut doubt = source.doubt.clone().unwrap_or_default();
        // What was not known of the source's mode does not matter any more.
        if asked.is_some() {
            doubt.mode = Certainty::Known;
        }
        if let Some(unknown) = &marking.unknown_mode {
            doubt.mode = Certainty::Unknown(unknown.clone());
        }
        if !marking.kept {
            let unknown = marking.owner.0.clone().err().or_else(|| marking.owner.1.clone().err());
            doubt.owner = unknown.map_or(Certainty::Known, Certainty::Unknown);
        }
        let number = |number: &Number| number.clone().unwrap_or_default();
        let (uid, gid) = if marking.kept {
            (source.uid.raw(), source.gid.raw())
        } else {
            (number(&marking.owner.0), number(&marking.owner.1))
        };
        let entry = Entry {
            target: source.target.clone(),
            content: source.content.clone(),
            doubt: (doubt != Doubt::default()).then_some(doubt),
            ..Entry::new(source.kind, uid, gid, asked.unwrap_or(mode)).at(step.from.clone())
        };
        self.put(dir, name, entry, step)
    }

    /// Puts `entry` in `dir`, where something of that name may be.
    fn put(&mut self, dir: InodeId, name: &[u8], entry: Entry, step: &BuildStep) -> Option<InodeId> {
        let directory = entry.kind == FileKind::Directory;
        match self.tree.lookup(dir, name) {
            // A directory that is there gets owner and mode of the one that is copied (seen with every builder).
            Some(there) if directory && self.tree.inode(there).kind == FileKind::Directory => {
                self.tree.own(
                    there,
                    DiskOwner { uid: entry.uid, gid: entry.gid },
                    entry.mode,
                    step.from.clone(),
                );
                let doubt = entry.doubt.unwrap_or_default();
                self.tree.doubt_owner_and_mode(there, doubt.owner, doubt.mode);
                Some(there)
            }
            Some(there) if directory == (self.tree.inode(there).kind == FileKind::Directory) => {
                self.tree.replace(there, entry);
                Some(there)
            }
            Some(_) if self.rules.kinds_give_way => {
                self.tree.forget(dir, name);
                self.tree.add(dir, name, entry).ok()
            }
            Some(_) => {
                let why = if directory {
                    "a file is where it makes a directory"
                } else {
                    "a directory is where it makes a file"
                };
                self.fail(&step.words, why, &step.from);
                None
            }
            // One that is there already would keep its own.
            None if directory && self.tree.is_unlisted(dir) => {
                let path = [self.tree.path_of(dir).as_slice(), b"/", name].concat();
                let entry = self.unlisted(entry, &path);
                self.tree.add(dir, name, entry).ok()
            }
            None => self.tree.add(dir, name, entry).ok(),
        }
    }
}

/// What a copy takes over of a source.
pub(super) fn leaf(tree: &Tree, id: InodeId) -> Entry {
    let inode = tree.inode(id);
    Entry {
        target: tree.target(id).unwrap_or_default().into(),
        content: if inode.kind == FileKind::File { tree.content(id).clone() } else { Content::Unknown },
        doubt: tree.doubt(id).cloned(),
        ..Entry::new(
            inode.kind,
            inode.stored_owner().uid.raw(),
            inode.stored_owner().gid.raw(),
            inode.stored_mode(),
        )
    }
}
