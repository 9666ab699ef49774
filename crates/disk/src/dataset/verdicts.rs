//! What actors can do to the entries of a dataset, as small tables beside it.

use std::sync::Arc;

/// An actor before one mount of a volume, or one that has none.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct ActorRow {
    /// Which of two states this is about: `given` or `changed`.
    pub state: &'static str,
    /// The number of the description among those of its state, from 0: the same one describes both states of an actor.
    pub part: i64,
    /// The description.
    pub input: String,
    /// The workload's namespace; empty outside Kubernetes.
    pub namespace: String,
    /// The workload's name.
    pub workload: String,
    /// The actor's name, as answers have it.
    pub actor: String,
    /// Its user id inside; `None` where that depends.
    pub uid: Option<u32>,
    /// Its group id inside; `None` where that depends.
    pub gid: Option<u32>,
    /// The volume.
    pub volume: String,
    /// The day of the volume.
    pub date: String,
    /// Where it is mounted, as the actor sees it.
    pub at: Vec<u8>,
    /// The path of the volume that shows there, from its root.
    pub shows: Vec<u8>,
    /// What it can do there; `None` where it never runs.
    pub view: Option<i64>,
    /// Why it never runs.
    pub reason: Option<String>,
}

/// How every act ends on the entries of one class at the end of one way: a row for each act.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct PairRows {
    /// The path of the region, as the dataset writes it.
    pub region: Arc<str>,
    /// The way.
    pub way: i64,
    /// The class.
    pub class: i64,
    /// The acts, sorted; the same for many pairs, which share them.
    pub acts: Arc<[ActRow]>,
    /// The class of the directory of the volume that keeps the actor out.
    pub barrier: Option<i64>,
}

/// How one act ends.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct ActRow {
    /// The act: `read`, `write`, `create`, `delete`, `list`, `enter`, `run`.
    pub act: &'static str,
    /// `allowed`, `denied` or `depends`.
    pub outcome: &'static str,
    /// The errno of what is denied.
    pub errno: Option<&'static str>,
    /// The check that decides, by its code in docs/rules.md.
    pub check: Option<&'static str>,
}

impl PairRows {
    /// All that they say, in a form that never changes: the numbers of views rest on it.
    #[cfg(feature = "parquet")]
    fn say(&self, bytes: &mut Vec<u8>) {
        bytes.extend(self.way.to_le_bytes());
        bytes.extend(self.class.to_le_bytes());
        bytes.push(u8::from(self.barrier.is_some()));
        bytes.extend(self.barrier.unwrap_or(0).to_le_bytes());
        bytes.extend(self.region.as_bytes());
        for act in &*self.acts {
            for text in [act.act, act.outcome, act.errno.unwrap_or(""), act.check.unwrap_or("")] {
                bytes.push(0);
                bytes.extend(text.as_bytes());
            }
        }
        bytes.push(1);
    }
}

/// A region of a volume.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct RegionRow {
    /// The volume.
    pub volume: String,
    /// The day.
    pub date: String,
    /// Its path, as the dataset writes it.
    pub region: Arc<str>,
    /// The region around it; `None` of the root.
    pub around: Option<Arc<str>>,
}

/// The number of a view: a digest of all that it says, so that those who can do the same have one.
#[must_use]
pub fn view(pairs: &[PairRows]) -> i64 {
    #[cfg(feature = "parquet")]
    {
        let mut bytes = b"view".to_vec();
        pairs.iter().for_each(|pair| pair.say(&mut bytes));
        super::class::digest(&[&bytes])
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = pairs;
        0
    }
}

/// All tables.
#[derive(Clone, Debug, Default)]
pub struct Verdicts {
    /// Actors before volumes.
    pub actors: Vec<ActorRow>,
    /// The verdicts of each view.
    pub views: Vec<(i64, Vec<PairRows>)>,
    /// The regions of each volume.
    pub regions: Vec<RegionRow>,
}
