//! The entries of a directory, those together of which the same is told.

use std::ops::Range;

use indexmap::IndexMap;
use mivask_model::mode::FileKind;
use rustc_hash::FxBuildHasher;

use super::column::Endings;

/// The entries of one directory that are still to be told, by their numbers in it.
pub(super) enum Entries {
    /// So many, of which nobody knows yet how many are alike.
    Unsorted(usize),
    /// Each by itself.
    Single(Range<usize>),
    /// The first of those that are alike, and how many there are of them.
    Together(std::vec::IntoIter<(usize, u64)>),
}

impl Entries {
    /// The next entry, and how many it stands for.
    pub(super) fn next(&mut self) -> Option<(usize, u64)> {
        match self {
            Self::Unsorted(_) => None,
            Self::Single(numbers) => numbers.next().map(|number| (number, 1)),
            Self::Together(groups) => groups.next(),
        }
    }
}

/// All that sums tell of an entry: how its questions end, what it is, and whether it has a bit that lets somebody run it.
pub(super) type Told = (Endings, FileKind, bool);

/// What was told of entries so far.
#[derive(Default)]
pub(super) struct Sets {
    known: IndexMap<Told, (), FxBuildHasher>,
    /// The number of what is told, and 1, by the numbers of the memo; 0 where that was not asked.
    of_memo: Vec<usize>,
    /// The directory that each was last met in, and its group there.
    latest: Vec<(u64, usize)>,
    /// The number of the directory that is sorted.
    directory: u64,
}

impl Sets {
    /// Another directory is sorted.
    pub(super) fn begin(&mut self) {
        self.directory += 1;
    }

    /// The number of what is told of an entry that the memo has under this number.
    pub(super) fn of_memo(&self, number: usize) -> Option<usize> {
        self.of_memo.get(number)?.checked_sub(1)
    }

    /// The same, which is this.
    pub(super) fn insert(&mut self, number: usize, told: Told) -> usize {
        let told = self.number(told);
        if self.of_memo.len() <= number {
            self.of_memo.resize(number + 1, 0);
        }
        self.of_memo[number] = told + 1;
        told
    }

    /// The number of what is told.
    pub(super) fn number(&mut self, told: Told) -> usize {
        let (number, _) = self.known.insert_full(told, ());
        self.latest.resize(self.known.len(), (0, 0));
        number
    }

    /// Adds an entry of the directory that is sorted, of which this is told.
    pub(super) fn add(&mut self, told: usize, entry: usize, groups: &mut Vec<(usize, u64)>) {
        let (directory, group) = &mut self.latest[told];
        if *directory == self.directory {
            groups[*group].1 += 1;
        } else {
            (*directory, *group) = (self.directory, groups.len());
            groups.push((entry, 1));
        }
    }
}
