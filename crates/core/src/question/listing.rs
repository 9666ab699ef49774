//! Directories before and after acts were carried out.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Act;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::path::parent;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::{Actor, Stage};

use super::facts::facts_of;

/// One inode as a listing shows it; `None` if unknown.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Line {
    /// What it is.
    pub kind: FileKind,
    /// Permission bits.
    pub mode: Option<Mode>,
    /// Owner as the actor sees it.
    pub uid: Option<InsideUid>,
    /// Group as the actor sees it.
    pub gid: Option<InsideGid>,
    /// Owner as stored.
    pub disk_uid: Option<DiskUid>,
    /// Group as stored.
    pub disk_gid: Option<DiskGid>,
    /// Its access ACL as stored, where that says more than the mode.
    pub acl: Option<String>,
    /// What a link points at.
    pub target: Option<Vec<u8>>,
}

/// One name of a directory, `.` for the directory itself.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Listed {
    /// The name, as bytes.
    pub name: Vec<u8>,
    /// What stood there before.
    pub before: Option<Line>,
    /// What is there now.
    pub after: Option<Line>,
}

impl Listed {
    /// Whether it is different now.
    #[must_use]
    pub fn changed(&self) -> bool {
        self.before != self.after
    }
}

/// A directory through the eyes of one actor.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Listing {
    /// Whose eyes.
    pub actor: String,
    /// Others who changed something there, and see the same.
    pub also: Vec<String>,
    /// The directory inside.
    pub directory: Vec<u8>,
    /// What is mounted there, in words.
    pub source: Arc<str>,
    /// `.` and every entry, or only those that changed, where there are many.
    pub entries: Vec<Listed>,
    /// How many unchanged entries are left out.
    pub omitted: usize,
}

impl Listing {
    fn is_like(&self, other: &Self) -> bool {
        let Self { actor: _, also: _, directory, source, entries, omitted } = self;
        (directory, source, entries, omitted)
            == (&other.directory, &other.source, &other.entries, &other.omitted)
    }

    /// Everybody whose eyes these are.
    #[must_use]
    pub fn eyes(&self) -> Vec<&str> {
        std::iter::once(&self.actor).chain(&self.also).map(String::as_str).collect()
    }
}

/// Directories with more entries show only what changed.
const MOST_LISTED: usize = 24;

/// The directories that `acts` changed something in, as they were `before` and are `after`: each once for each actor
/// who changed it.
#[must_use]
pub fn listings<'a>(before: &Stage, after: &Stage, acts: impl Iterator<Item = &'a Act>) -> Vec<Listing> {
    let mut seen = BTreeSet::new();
    let mut all = Vec::new();
    for act in acts {
        for directory in touched(before, after, act) {
            if !seen.insert((act.actor.clone(), directory.clone())) {
                continue;
            }
            let (Ok(then), Ok(now)) = (before.actor(&act.actor), after.actor(&act.actor)) else { continue };
            let Some(one) = listing((before, then), (after, now), directory, MOST_LISTED) else { continue };
            match all.iter_mut().find(|other: &&mut Listing| other.is_like(&one)) {
                Some(other) => other.also.push(one.actor),
                None => all.push(one),
            }
        }
    }
    // A new directory is in the listing of the one above; without entries it says no more.
    let bare = |listing: &Listing| listing.entries.len() == 1 && listing.entries[0].before.is_none();
    all.retain(|listing| listing.entries.iter().any(Listed::changed) && !bare(listing));
    // Nor does a directory of which nothing but itself changed, where the one above is listed.
    let above: BTreeSet<(String, Vec<u8>)> =
        all.iter().map(|listing| (listing.actor.clone(), listing.directory.clone())).collect();
    let alone = |listing: &Listing| !listing.entries.iter().skip(1).any(Listed::changed);
    let told = |listing: &Listing| {
        listing.directory != b"/"
            && above.contains(&(listing.actor.clone(), parent(&listing.directory).to_vec()))
    };
    all.retain(|listing| !(alone(listing) && told(listing)));
    all
}

/// The directories whose listing shows what `act` does.
fn touched(before: &Stage, after: &Stage, act: &Act) -> Vec<Vec<u8>> {
    let changes = act.verb.sets_attributes();
    let directory = |stage: &Stage| {
        let actor = stage.actor(&act.actor).ok()?;
        let place = place(stage, actor, &act.path, Follow::Links)?;
        facts_of(stage, actor, place).filter(|facts| facts.kind == FileKind::Directory)
    };
    if changes && (directory(before).is_some() || directory(after).is_some()) {
        return vec![act.path.clone()];
    }
    let paths = std::iter::once(act.path.as_slice()).chain(act.verb.second_path());
    paths.map(|path| parent(path).to_vec()).collect()
}

/// Everything in one directory, before and after; `None` where `actor` comes to nothing there.
///
/// # Errors
/// No actor is called so.
pub fn listing_of(
    before: &Stage,
    after: &Stage,
    actor: &str,
    directory: &[u8],
) -> Result<Option<Listing>, ActorError> {
    let now = after.actor(actor)?;
    // Whoever came later saw the same through the same mounts.
    let then = before.actor(actor).unwrap_or(now);
    let there = place(after, now, directory, Follow::Links)
        .and_then(|place| facts_of(after, now, place))
        .is_some_and(|facts| facts.kind == FileKind::Directory);
    Ok(listing((before, then), (after, now), directory.to_vec(), usize::MAX).filter(|_| there))
}

fn listing(
    then: (&Stage, &Actor),
    now: (&Stage, &Actor),
    directory: Vec<u8>,
    most: usize,
) -> Option<Listing> {
    let old = names(then, &directory);
    let new = names(now, &directory);
    let place = place(now.0, now.1, &directory, Follow::Links)
        .or_else(|| place(then.0, then.1, &directory, Follow::Links))?;
    let mount = now.1.mounts.get(place.mount);
    let source = mount.facts.label.clone().unwrap_or_else(|| now.0.source(place.source).facts.name.clone());
    let all: BTreeSet<Vec<u8>> = old.into_iter().chain(new).collect();
    let mut entries = vec![Listed {
        name: b".".to_vec(),
        before: line(then, &directory, Follow::Links),
        after: line(now, &directory, Follow::Links),
    }];
    for name in all {
        let path = [directory.as_slice(), b"/", &name].concat();
        let before = line(then, &path, Follow::AllButLast);
        let after = line(now, &path, Follow::AllButLast);
        entries.push(Listed { name, before, after });
    }
    let mut omitted = 0;
    if entries.len() > most {
        let whole = entries.len();
        entries.retain(|entry| entry.changed() || entry.name == b".");
        omitted = whole - entries.len();
    }
    Some(Listing { actor: now.1.name.to_string(), also: Vec::new(), directory, source, entries, omitted })
}

fn place(stage: &Stage, actor: &Actor, path: &[u8], follow: Follow) -> Option<Place> {
    match look(&stage.storage, &actor.mounts, path, follow) {
        Ok(Sight::There(place)) => Some(place),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    }
}

fn names((stage, actor): (&Stage, &Actor), directory: &[u8]) -> Vec<Vec<u8>> {
    let Some(place) = place(stage, actor, directory, Follow::Links) else { return Vec::new() };
    let Some(id) = place.inode else { return Vec::new() };
    stage.source(place.source).tree.children(id).map(|(name, _)| name.to_vec()).collect()
}

fn line((stage, actor): (&Stage, &Actor), path: &[u8], follow: Follow) -> Option<Line> {
    let place = place(stage, actor, path, follow)?;
    let facts = facts_of(stage, actor, place)?;
    let tree = &stage.source(place.source).tree;
    let single = actor.mounts.get(place.mount).variants.len() == 1;
    let owner = place.inode.filter(|_| single).and_then(|id| tree.owner(id).value());
    Some(Line {
        kind: facts.kind,
        mode: facts.mode,
        uid: facts.uid,
        gid: facts.gid,
        disk_uid: owner.map(|owner| owner.uid),
        disk_gid: owner.map(|owner| owner.gid),
        acl: place.inode.and_then(|id| tree.acl(id)).map(ToString::to_string),
        target: place.inode.and_then(|id| tree.target(id)).map(<[u8]>::to_vec),
    })
}

/// The names in a directory as far as they are listed, each with its kind; links at the end of `directory` are followed.
#[must_use]
pub fn entries(stage: &Stage, actor: &Actor, directory: &[u8]) -> Vec<(Vec<u8>, FileKind)> {
    let kind = |name: &[u8]| {
        let path = [directory, b"/", name].concat();
        place(stage, actor, &path, Follow::Links)
            .and_then(|place| facts_of(stage, actor, place))
            .map_or(FileKind::File, |facts| facts.kind)
    };
    names((stage, actor), directory).into_iter().map(|name| (name.clone(), kind(&name))).collect()
}
