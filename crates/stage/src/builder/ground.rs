//! One image while it is built: its files, accounts and settings.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Spot, Tree};

use crate::identity::Knowledge;
use crate::recipe::BuildStep;
use crate::runtime::BuildRules;
use crate::scene::{Image, Program, USUAL_SEARCH};

/// A number, or the fact that would give it.
pub(super) type Number = Result<u32, Unknown>;

/// Which facts of a doubtful inode were set since: owner, group, mode.
#[derive(Clone, Copy, Default)]
struct Settled {
    uid: bool,
    gid: bool,
    mode: bool,
}

pub(super) struct BuildState<'a> {
    pub rules: &'a BuildRules,
    /// The name the image is called by.
    pub name: &'a str,
    pub tree: Tree,
    /// Whether it began with nothing, so that only what was copied into it is there.
    pub bare: bool,
    pub accounts: Knowledge<Accounts>,
    pub user: Knowledge<Option<Fact<String>>>,
    pub volumes: Vec<Fact<Vec<u8>>>,
    pub working_directory: Option<Fact<Vec<u8>>>,
    pub program: Knowledge<Program>,
    /// Whether a `CMD` of this stage said what the program's arguments are, so that an `ENTRYPOINT` leaves it.
    pub own_command: bool,
    /// `PATH`, where a step set it.
    pub search: Option<Fact<Vec<u8>>>,
    /// Whether the working directory is still to be made, by the first command that runs in it.
    pub to_make: bool,
    /// Where commands of the running `RUN` are, where one of them went elsewhere.
    pub shell_directory: Option<Vec<u8>>,
    /// What they take from new modes.
    pub umask: Mode,
    pub assumptions: Vec<Arc<str>>,
    pub failure: Option<Refusal>,
    /// Whether the build goes on where the command at hand fails.
    pub forgiving: bool,
    /// Whether the last command of the running `RUN` failed for certain, and the shell went on.
    pub failed: bool,
    /// Whether it may have.
    pub stumbled: bool,
    /// What the files were when the running `RUN` began, where the image has volumes.
    pub started: Option<Box<Tree>>,
    settled: BTreeMap<InodeId, Settled>,
    /// Paths that are there, or may be, though they are not listed.
    presumed: Vec<(Vec<u8>, Unknown)>,
}

impl<'a> BuildState<'a> {
    /// The ground that `base` gives.
    pub(super) fn new(base: Image, tree: Tree, name: &'a str, rules: &'a BuildRules) -> Self {
        Self {
            rules,
            name,
            tree,
            bare: false,
            accounts: base.identity.accounts,
            user: base.identity.user,
            volumes: base.volumes,
            working_directory: base.working_directory,
            program: base.program,
            own_command: false,
            search: None,
            to_make: false,
            shell_directory: None,
            umask: Mode::new(0o022),
            assumptions: base.assumptions,
            failure: base.failure,
            forgiving: false,
            failed: false,
            stumbled: false,
            started: None,
            settled: BTreeMap::new(),
            presumed: Vec::new(),
        }
    }

    /// The image as it is now.
    pub(super) fn image(&self) -> Image {
        let mut tree = self.tree.clone();
        tree.lower();
        let user = self.user.clone();
        let accounts = self.accounts.clone();
        Image {
            identity: crate::identity::ImageFacts { user, accounts, covered: false },
            tree: Some(Arc::new(tree)),
            volumes: self.volumes.clone(),
            working_directory: self.working_directory.clone(),
            program: self.started(),
            assumptions: self.assumptions.clone(),
            failure: self.failure.clone(),
        }
    }

    /// What it starts, with the `PATH` it got.
    fn started(&self) -> Knowledge<Program> {
        match (&self.program, &self.search) {
            (Knowledge::Known(program), Some(search)) => {
                Knowledge::Known(Program { search: Some(search.clone()), ..program.clone() })
            }
            (program, _) => program.clone(),
        }
    }

    /// `ENTRYPOINT`: the base's `CMD` is gone with it.
    pub(super) fn starts(&mut self, word: &[u8], step: &BuildStep) {
        let known = match &self.program {
            Knowledge::Known(program) => program.clone(),
            Knowledge::Unknown => Program::default(),
        };
        let command = if self.own_command { known.command } else { None };
        let entrypoint = Some(Fact::new(word.to_vec(), step.from.clone()));
        self.program = Knowledge::Known(Program { entrypoint, command, search: known.search });
    }

    /// `CMD`; below an image that is not given it may be an argument of that one's entrypoint.
    pub(super) fn passes(&mut self, word: &[u8], step: &BuildStep) {
        self.own_command = true;
        if let Knowledge::Known(program) = &mut self.program {
            program.command = Some(Fact::new(word.to_vec(), step.from.clone()));
        }
    }

    /// `ENV PATH=`.
    pub(super) fn looks_in(&mut self, text: &[u8], step: &BuildStep) {
        let base = match &self.program {
            Knowledge::Known(program) => program.search.as_ref(),
            Knowledge::Unknown => None,
        };
        let before = self.search.as_ref().or(base).map_or(USUAL_SEARCH, |search| search.value.as_slice());
        let pieces: Vec<&[u8]> = text.split(|byte| *byte == 0).collect();
        self.search = Some(Fact::new(pieces.join(before), step.from.clone()));
    }

    /// The build stops here: there is no such image. Where failure is forgiven, what is chained to the command does not run.
    pub(super) fn fail(&mut self, words: &str, why: &str, from: &Provenance) {
        if self.forgiving {
            self.failed = true;
            return;
        }
        let reason = format!("image {} cannot be built: {words}: {why}", self.name);
        self.failure.get_or_insert_with(|| Refusal {
            class: RefusalClass::BuildRefused,
            reason,
            from: from.clone(),
            whole_pod: false,
        });
    }

    pub(super) fn assume(&mut self, text: String) {
        let text: Arc<str> = text.into();
        if !self.assumptions.contains(&text) {
            self.assumptions.push(text);
        }
    }

    /// `path` from where commands run.
    pub(super) fn absolute(&self, path: &[u8]) -> Vec<u8> {
        if path.first() == Some(&b'/') {
            return path.to_vec();
        }
        let given = self.working_directory.as_ref().map(|path| path.value.as_slice());
        let here = self.shell_directory.as_deref().or(given).unwrap_or(b"/");
        [here, b"/", path].concat()
    }

    /// Adds directories `names` below `dir`, one in the other; `make` gives each, told whether it is the last.
    pub(super) fn make_directories(
        &mut self,
        dir: InodeId,
        names: &[Vec<u8>],
        make: impl Fn(bool) -> Entry,
    ) -> InodeId {
        let mut here = dir;
        for (index, name) in names.iter().enumerate() {
            here = self.add(here, name, make(index + 1 == names.len())).unwrap_or(here);
        }
        here
    }

    /// Adds `entry`; in a set-group-ID directory it gets its group, and a directory the bit (`inode_init_owner`).
    pub(super) fn add(&mut self, dir: InodeId, name: &[u8], mut entry: Entry) -> Option<InodeId> {
        let parent = *self.tree.inode(dir);
        if parent.stored_mode().has(Mode::SET_GROUP_ID) && self.tree.doubt(dir).is_none() {
            entry.gid = parent.stored_owner().gid;
            if entry.kind == FileKind::Directory {
                entry.mode = entry.mode.with(Mode::SET_GROUP_ID);
            }
        }
        self.tree.add(dir, name, entry).ok()
    }

    /// The entry of something new.
    pub(super) fn entry(
        &self,
        kind: FileKind,
        owner: &(Number, Number),
        mode: u16,
        from: &Provenance,
    ) -> Entry {
        let (uid, gid) = owner;
        // The doubt below is what counts where there is no number.
        let number = |number: &Number| number.clone().unwrap_or_default();
        let mut entry = Entry::new(kind, number(uid), number(gid), Mode::new(mode)).at(from.clone());
        if let Some(unknown) = uid.clone().err().or_else(|| gid.clone().err()) {
            entry = entry.doubting(Doubt { owner: Certainty::Unknown(unknown), ..Doubt::default() });
        }
        entry
    }

    /// What is not certain of something that is made where it is unknown what was there before: nothing is assumed to
    /// have been, unless an earlier command named it.
    fn before(&self, path: &[u8]) -> Doubt {
        let path = normal(path);
        let below =
            |inner: &[u8], outer: &[u8]| inner.starts_with(outer) && inner[outer.len()..].starts_with(b"/");
        let named = |known: &[u8]| known == path || below(known, &path) || below(&path, known);
        if let Some((_, unknown)) = self.presumed.iter().find(|(known, _)| named(known)) {
            let unknown = Certainty::Unknown(unknown.clone());
            return Doubt::new(unknown.clone(), unknown);
        }
        let text: Arc<str> =
            format!("what image {} is built on has nothing at {}", self.name, quoted(&path)).into();
        Doubt::new(Certainty::Assumed(text.clone()), Certainty::Assumed(text))
    }

    /// `entry`, made at `path` where it is unknown what was there before.
    pub(super) fn unlisted(&self, entry: Entry, path: &[u8]) -> Entry {
        let before = self.before(path);
        let own = entry.doubt.clone().unwrap_or_default();
        let surer = |own: Certainty, before| if own.unknown().is_some() { own } else { before };
        let owner = surer(own.owner, before.owner);
        let mode = surer(own.mode, before.mode);
        entry.doubting(Doubt { owner, mode, ..before })
    }

    /// `path` is there, or may be, and no one knows as what.
    pub(super) fn presume(&mut self, path: &[u8], unknown: &Unknown) {
        self.presumed.push((normal(path), unknown.clone()));
    }

    /// Gives `id` a user, a group or both.
    pub(super) fn own(&mut self, id: InodeId, uid: Option<&Number>, gid: Option<&Number>, from: &Provenance) {
        let inode = *self.tree.inode(id);
        let number = |given: Option<&Number>, now: u32| match given {
            Some(number) => number.clone().unwrap_or_default(),
            None => now,
        };
        let owner =
            (number(uid, inode.stored_owner().uid.raw()), number(gid, inode.stored_owner().gid.raw()));
        self.tree.chown(id, owner.0, owner.1, from.clone());
        let unknown = [uid, gid].into_iter().flatten().find_map(|number| number.clone().err());
        if let Some(unknown) = unknown {
            self.tree.doubt_attributes(id, Certainty::Unknown(unknown));
            self.settled.insert(id, Settled { mode: true, ..Settled::default() });
            return;
        }
        self.settle(id, |settled| {
            settled.uid |= uid.is_some();
            settled.gid |= gid.is_some();
        });
    }

    /// Gives `id` a mode; `exact` where it does not rest on the one before.
    pub(super) fn set_mode(&mut self, id: InodeId, mode: Mode, exact: bool, from: &Provenance) {
        let inode = *self.tree.inode(id);
        // chmod follows links, and nothing has another mode than 0777 for one.
        if inode.kind == FileKind::Link {
            return;
        }
        self.tree.set_mode(id, mode, from.clone());
        if exact {
            self.settle(id, |settled| settled.mode = true);
        }
    }

    /// Notes what was set, and drops the doubt where everything was.
    fn settle(&mut self, id: InodeId, note: impl FnOnce(&mut Settled)) {
        // Only what was in doubt has to be collected bit by bit; the rest is known as it is set.
        let doubtful = self.tree.doubt(id).is_some_and(|doubt| !doubt.knows_attributes());
        if !doubtful {
            return;
        }
        let settled = self.settled.entry(id).or_default();
        note(settled);
        if settled.uid && settled.gid && settled.mode {
            self.tree.doubt_attributes(id, Certainty::Known);
        }
    }

    /// Something no one reads happened to `path` and everything below it.
    pub(super) fn touched(&mut self, path: &[u8], unknown: &Unknown) {
        match self.tree.resolve(path, true) {
            Spot::There(id) => {
                for id in self.tree.below(id) {
                    let attributes = Certainty::Unknown(unknown.clone());
                    let directory = self.tree.inode(id).kind == FileKind::Directory;
                    let contents =
                        if directory { Certainty::Unknown(unknown.clone()) } else { Certainty::Known };
                    self.settled.remove(&id);
                    self.tree.set_doubt(id, Doubt::new(attributes, contents));
                }
            }
            Spot::Missing { dir, .. } => {
                self.may_hold_more(dir, unknown);
                self.presume(path, unknown);
            }
            Spot::Unlisted { .. } => self.presume(path, unknown),
            Spot::Nowhere(_) => {}
        }
    }

    /// The directory may hold more than what is listed.
    pub(super) fn may_hold_more(&mut self, dir: InodeId, unknown: &Unknown) {
        self.tree.doubt_contents(dir, Certainty::Unknown(unknown.clone()));
    }
}

/// A path without doubled slashes, `.` and the slash at its end.
fn normal(path: &[u8]) -> Vec<u8> {
    let parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".");
    parts.flat_map(|part| [b"/", part].concat()).collect()
}
