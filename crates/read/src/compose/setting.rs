//! What a file of a project is read in.

use std::collections::BTreeMap;

/// What files are read in: which folder relative paths begin at, and the variables there are beside those of the process.
#[derive(Clone, Debug, Default)]
pub(super) struct Setting {
    pub variables: BTreeMap<String, String>,
    /// Its number; a file is read once in each.
    pub number: usize,
}

/// Settings by what makes them: the one around, and its files of variables.
pub(super) type Settings = BTreeMap<(usize, Vec<String>), Setting>;
