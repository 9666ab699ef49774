//! Levels of multi-level security: a sensitivity and categories (kernel: `security/selinux/ss/mls.c`).

use crate::Bitmap;

/// A sensitivity with its categories, such as `s0:c12,c40`.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Level {
    /// The sensitivity's value, from 1; 0 in a policy without levels.
    pub sensitivity: u32,
    /// The categories' values less 1.
    pub categories: Bitmap,
}

/// What a context carries: from a low level to a high one.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Range {
    /// The effective level, in the policy's word `l1` or `l2`.
    pub low: Level,
    /// The clearance, in the policy's word `h1` or `h2`.
    pub high: Level,
}

impl Level {
    /// Whether a process at this level may see what is at `other`: no lower sensitivity, no category missing
    /// (kernel: `mls_level_dom`).
    #[must_use]
    pub fn dominates(&self, other: &Self) -> bool {
        self.sensitivity >= other.sensitivity && self.categories.contains_all(&other.categories)
    }
}

impl Range {
    /// Whether `other` lies within this range (kernel: `mls_range_contains`).
    #[must_use]
    pub fn contains(&self, other: &Self) -> bool {
        other.low.dominates(&self.low) && self.high.dominates(&other.high)
    }

    /// The range of one level.
    #[must_use]
    pub fn of(level: &Level) -> Self {
        Self { low: level.clone(), high: level.clone() }
    }

    /// The greatest range below both; `None` where their sensitivities do not meet (kernel: `mls_context_glblub`).
    pub(crate) fn common(&self, other: &Self) -> Option<Self> {
        let apart =
            self.high.sensitivity < other.low.sensitivity || other.high.sensitivity < self.low.sensitivity;
        (!apart).then(|| Self {
            low: Level {
                sensitivity: self.low.sensitivity.max(other.low.sensitivity),
                categories: self.low.categories.and(&other.low.categories),
            },
            high: Level {
                sensitivity: self.high.sensitivity.min(other.high.sensitivity),
                categories: self.high.categories.and(&other.high.categories),
            },
        })
    }
}
