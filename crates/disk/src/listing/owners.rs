//! Owners by name, for listings that give names: the account files beside them say the numbers.

use std::collections::BTreeMap;
use std::path::Path;

use super::number;

/// Account files are read up to this size.
const MOST: u64 = 4 << 20;

/// The numbers of names.
#[derive(Clone, Debug, Default)]
pub(crate) struct Owners {
    users: BTreeMap<Vec<u8>, u32>,
    groups: BTreeMap<Vec<u8>, u32>,
}

impl Owners {
    /// Those of the files `passwd` and `group` beside a listing, as far as they are there.
    pub(crate) fn beside(listing: &Path) -> Self {
        let read = |name: &str| {
            let path = listing.parent().unwrap_or(Path::new("")).join(name);
            let small = std::fs::metadata(&path).is_ok_and(|facts| facts.is_file() && facts.len() <= MOST);
            if small { std::fs::read(&path).unwrap_or_default() } else { Vec::new() }
        };
        Self::of(&read("passwd"), &read("group"))
    }

    /// Those of the content of account files.
    pub(crate) fn of(passwd: &[u8], group: &[u8]) -> Self {
        Self { users: numbers(passwd), groups: numbers(group) }
    }

    /// The number that a listing tells, or that its name has. Root is 0 unless stated otherwise.
    pub(crate) fn uid(&self, given: &[u8]) -> Option<u32> {
        find(&self.users, given)
    }

    /// The same for groups.
    pub(crate) fn gid(&self, given: &[u8]) -> Option<u32> {
        find(&self.groups, given)
    }
}

fn find(names: &BTreeMap<Vec<u8>, u32>, given: &[u8]) -> Option<u32> {
    number(given).or_else(|| names.get(given).copied()).or((given == b"root").then_some(0))
}

/// Name and number of each line; the first of a name counts.
fn numbers(content: &[u8]) -> BTreeMap<Vec<u8>, u32> {
    let mut all = BTreeMap::new();
    for line in content.split(|byte| *byte == b'\n') {
        let mut fields = line.split(|byte| *byte == b':');
        let name = fields.next();
        let _ = fields.next();
        let id = fields.next();
        if let (Some(name), Some(id)) = (name, id.and_then(number)) {
            all.entry(name.to_vec()).or_insert(id);
        }
    }
    all
}
