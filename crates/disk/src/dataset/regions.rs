//! The parts of a volume whose paths matter: what a `subPath` shows, and what something else is mounted on.

use std::sync::Arc;

use mivask_model::fact::Unknown;

use super::text::text;

/// Paths of a volume, the root first. An entry is of the region that is nearest above it, or of itself where it is one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Regions {
    /// In order, as texts of the dataset.
    paths: Vec<Arc<str>>,
}

impl Regions {
    /// Those of these paths from the root, such as `/a/b`, and the root.
    pub(super) fn new(paths: &[Vec<u8>]) -> Self {
        let mut paths: Vec<Arc<str>> = paths.iter().map(|path| Arc::from(&*text(path))).collect();
        paths.push(Arc::from("/"));
        paths.sort_unstable();
        paths.dedup();
        Self { paths }
    }

    /// The path of each, by its number, as the dataset writes it.
    #[must_use]
    pub fn paths(&self) -> &[Arc<str>] {
        &self.paths
    }

    /// The number of the region that is around this one; `None` for the root.
    #[must_use]
    pub fn around(&self, region: usize) -> Option<usize> {
        let path = &self.paths[region];
        (0..self.paths.len())
            .filter(|other| *other != region && is_within(path, &self.paths[*other]))
            .max_by_key(|other| self.paths[*other].len())
    }

    /// The region of a path.
    pub(super) fn of(&self, path: &str) -> usize {
        let around = self.paths.iter().enumerate().filter(|(_, region)| is_within(path, region));
        around.max_by_key(|(_, region)| region.len()).map_or(0, |(at, _)| at)
    }

    /// Whether a path is a region, or on the way to one.
    pub(super) fn passes(&self, path: &str) -> bool {
        self.paths.iter().any(|region| is_within(region, path))
    }

    /// With one more, if it is not there.
    pub(super) fn add(&mut self, path: String) {
        if let Err(slot) = self.paths.binary_search_by(|known| (**known).cmp(&path)) {
            self.paths.insert(slot, path.into());
        }
    }
}

/// Why nobody knows what a name is that is none of a region.
pub(super) fn elsewhere() -> Unknown {
    let settle = "ask about the path with `access`, whose answers know every name";
    Unknown::new("which names a directory of the dataset has", settle)
}

/// Whether `path` is `above` or below it.
pub(super) fn is_within(path: &str, above: &str) -> bool {
    above == "/" || path.strip_prefix(above).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_is_of_the_nearest_region() {
        let regions = Regions::new(&[b"/a/b".to_vec(), b"/a".to_vec(), b"/ab\\".to_vec()]);
        let paths: Vec<&str> = regions.paths().iter().map(|path| &**path).collect();
        assert_eq!(paths, ["/", "/a", "/a/b", "/ab\\x5c"]);
        for (path, region) in
            [("/", "/"), ("/a", "/a"), ("/ab", "/"), ("/a/c", "/a"), ("/a/b/c", "/a/b"), ("/c", "/")]
        {
            assert_eq!(paths[regions.of(path)], region, "{path}");
        }
        assert_eq!(regions.around(2), Some(1));
        assert_eq!(regions.around(0), None);
        assert!(regions.passes("/a") && regions.passes("/a/b") && !regions.passes("/a/b/c"));
    }
}
