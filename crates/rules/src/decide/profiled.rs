//! What becomes of a verdict under the AppArmor profile of an engine.
//!
//! Its hooks stand behind the bits for what is opened (`apparmor_file_open`) and before them for what is changed by its path
//! (`apparmor_path_chmod` and its like, security/apparmor/lsm.c); either way the end is EACCES.

use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::FileKind;
use mivask_model::outcome::{Errno, Verdict};
use mivask_model::usual::Usual;

use crate::profile::{Letters, Profile, denies, is_near, is_of_newer_engines};
use crate::trace::{Check, Step, StepResult};
use crate::view::View;
use crate::walk::{Follow, Last, Target, Walker};
use crate::witness::{MissingFact, Witness};

/// What is assumed wherever the profile could have a say.
pub(super) const ASSUMED: &str =
    "containers have the AppArmor profile that their engine makes, as Docker and Podman ship it";

/// `verdict` of an act, or EACCES where the profile denies a file that it is about.
pub(super) fn weighed<'a, W: Witness>(
    (view, profile): (&'a View<'a>, Profile),
    verdict: Verdict,
    wanted: &Wanted<'a>,
    w: &mut W,
) -> Verdict {
    // Only what is changed by its path is asked of the profile before the bits.
    let asked = match &verdict {
        Ok(_) => true,
        Err(errno) => wanted.by_path && matches!(*errno, Errno::EPERM | Errno::ENOTEMPTY),
    };
    if !asked || W::ALL_SEEING {
        return verdict;
    }
    for (path, follow, letters, end) in wanted.files.into_iter().flatten() {
        let Some(named) = named(view, path, (follow, end), w).filter(|named| is_near(named)) else {
            continue;
        };
        if profile == Profile::Default {
            w.assume(|| ASSUMED.into());
        }
        if let Some(rule) = denies(&named, letters).filter(|rule| holds(profile, rule, w)) {
            w.step(|| Step {
                path: named.clone(),
                check: Check::Profile,
                fact: format!("the engine's AppArmor profile denies this on {rule}, whoever asks"),
                from: Provenance::rule("the default profile of engines"),
                result: StepResult::Failed(Errno::EACCES),
                bits: None,
            });
            return Err(Errno::EACCES);
        }
    }
    verdict
}

/// Whether `rule` decides.
fn holds<W: Witness>(profile: Profile, rule: &str, w: &mut W) -> bool {
    let newer = is_of_newer_engines(rule);
    let (fact, options) = match (profile, newer) {
        (Profile::Default, false) => return true,
        (Profile::Default, true) => (
            "how old the engine is",
            ["the engine's profile says nothing of power capping", "the engine is new enough to deny it"],
        ),
        (Profile::Perhaps, _) => (
            "whether the host has AppArmor",
            ["the host has no AppArmor", "AppArmor is on, and the engine's profile denies it"],
        ),
    };
    let settle = if profile == Profile::Default {
        "no scene can supply it"
    } else {
        "give `host: { apparmor: enabled }` or `disabled` in a scene"
    };
    let describe = |option: usize| options[option].to_owned();
    w.choose(MissingFact::Profile(fact), &Unknown::new(fact, settle), options.len(), describe) == 1
}

/// What the path of a file ends with.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum End {
    /// The name of what is there; a slash behind that of a directory.
    AsFound,
    /// A slash: it is a directory, or is to become one.
    Directory,
    /// The name of something new in it.
    NewInside,
}

/// A file that an act is about: its path, what is done to it, and what its name ends with.
type About<'a> = (&'a [u8], Follow, Letters, End);

/// The files that an act is about, and what it does to each.
pub(super) struct Wanted<'a> {
    files: [Option<About<'a>>; 2],
    /// Whether the hooks are those of paths.
    by_path: bool,
}

impl<'a> Wanted<'a> {
    /// A new entry of the directory at `path`.
    pub(super) const fn new_entry(path: &'a [u8]) -> Self {
        let file = (path, Follow::Links, Letters::WRITE, End::NewInside);
        Self { files: [Some(file), None], by_path: true }
    }

    pub(super) fn of(verb: &'a Verb, path: &'a [u8]) -> Self {
        let (w, follow) = (Letters::WRITE, Follow::Links);
        let opened =
            |letters, end| Self { files: [Some((path, follow, letters, end)), None], by_path: false };
        let changed = |follow, end| Self { files: [Some((path, follow, w, end)), None], by_path: true };
        let both = |(from, follow), (to, letters)| Self {
            files: [
                Some((path, follow, from, End::AsFound)),
                Some((to, Follow::AllButLast, letters, End::AsFound)),
            ],
            by_path: true,
        };
        match verb {
            Verb::Reads => opened(Letters::READ, End::AsFound),
            Verb::Lists => opened(Letters::READ, End::Directory),
            Verb::Writes
            | Verb::Appends
            | Verb::Truncates
            | Verb::Overwrites
            | Verb::Extends
            | Verb::Creates(_) => opened(w, End::AsFound),
            Verb::Updates => opened(Letters::READ_WRITE, End::AsFound),
            Verb::Runs => opened(Letters::RUN, End::AsFound),
            Verb::Shortens | Verb::SetsMode(_) | Verb::SetsOwner(_) | Verb::SetsGroup(_) => {
                changed(follow, End::AsFound)
            }
            Verb::SetsLinkOwner(_) | Verb::SetsLinkGroup(_) => changed(Follow::AllButLast, End::AsFound),
            Verb::Deletes | Verb::MakesFifo(_) | Verb::MakesNode(..) | Verb::Points(_) => {
                changed(Follow::AllButLast, End::AsFound)
            }
            Verb::MakesDirectory(_) | Verb::RemovesDirectory => changed(Follow::AllButLast, End::Directory),
            Verb::Links(new) => both((Letters::LINK, Follow::AllButLast), (new, Letters::LINK)),
            Verb::LinksTarget(new) => both((Letters::LINK, follow), (new, Letters::LINK)),
            Verb::Renames(new) | Verb::RenamesNew(new) => {
                both((Letters::READ_WRITE, Follow::AllButLast), (new, w))
            }
            Verb::Exchanges(new) => {
                both((Letters::READ_WRITE, Follow::AllButLast), (new, Letters::READ_WRITE))
            }
            // No hook of paths: AppArmor mediates neither access(2) nor attributes, and stat(2) always passes.
            Verb::Inspects
            | Verb::InspectsLink
            | Verb::Enters
            | Verb::MayRead
            | Verb::MayWrite
            | Verb::MayRun
            | Verb::SetsAcl(_)
            | Verb::SetsDefaultAcl(_)
            | Verb::RemovesAcl
            | Verb::RemovesDefaultAcl
            | Verb::Stamps
            | Verb::Backdates
            | Verb::Tags(_)
            | Verb::ReadsTag(_) => Self { files: [None, None], by_path: false },
        }
    }
}

/// The path by which the profile knows what `path` leads to: links followed, a directory's with a slash (`aa_path_name`).
fn named<W: Witness>(
    view: &View<'_>,
    path: &[u8],
    (follow, end): (Follow, End),
    w: &mut W,
) -> Option<Vec<u8>> {
    let mut quiet = Quiet(w);
    let mut walker = Walker::new(view, &mut quiet);
    let arrival = walker.arrive(path, follow).ok()?;
    let mut named = walker.path().to_vec();
    let directory = match arrival.target {
        Target::There(place) => view.is(place, FileKind::Directory),
        Target::Missing => false,
    };
    match end {
        End::NewInside => named.extend_from_slice(b"/new"),
        End::Directory => named.push(b'/'),
        End::AsFound if directory || arrival.last == Last::Root => named.push(b'/'),
        End::AsFound => {}
    }
    Some(named)
}

/// Asks what another witness asks, and keeps what happens to itself.
struct Quiet<'w, W>(&'w mut W);

impl<W: Witness> Witness for Quiet<'_, W> {
    const TRACING: bool = true;
    const BRIEF: bool = true;

    fn step(&mut self, _: impl FnOnce() -> Step) {}

    fn assume(&mut self, _: impl FnOnce() -> Arc<str>) {}

    fn took_first(&self, is: impl Fn(&MissingFact) -> bool) -> bool {
        self.0.took_first(is)
    }

    fn is_as_usual(&self) -> bool {
        self.0.is_as_usual()
    }

    fn choose_usually(
        &mut self,
        question: MissingFact,
        unknown: &Unknown,
        count: usize,
        words: (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize {
        self.0.choose_usually(question, unknown, count, words)
    }
}
