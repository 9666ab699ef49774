//! What is mounted where on the host, as far as host paths are concerned.

use std::sync::Arc;

use crate::fact::Provenance;
use crate::labels::Labels;
use crate::mount::MountFlags;
use crate::personality::Personality;

/// One mount of the host.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct HostMount {
    /// The absolute path of its mount point.
    pub at: Vec<u8>,
    /// The filesystem's type as the kernel names it.
    pub filesystem: Arc<str>,
    /// The flags of the mount.
    pub flags: MountFlags,
    /// Whether the root of the filesystem shows, which is a directory; a bind may show a single file.
    pub whole: bool,
    /// Whether the superblock is read-only.
    pub read_only_filesystem: bool,
    /// What the filesystem does differently; `None` where its rules are not known.
    pub personality: Option<Personality>,
    /// What its options say of its labels.
    pub labels: Labels,
    /// The line it was read from.
    pub from: Provenance,
}

/// The mounts of the host that paths can lead to.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct HostMounts(Vec<HostMount>);

impl HostMounts {
    /// These mounts, of which none hides another; outer ones come first.
    #[must_use]
    pub const fn new(all: Vec<HostMount>) -> Self {
        Self(all)
    }

    /// The mount that `path` is on, links left alone.
    #[must_use]
    pub fn covering(&self, path: &[u8]) -> Option<&HostMount> {
        self.0.iter().filter(|mount| is_within(path, &mount.at)).max_by_key(|mount| mount.at.len())
    }

    /// The mounts below `path`, each with the rest of its path: what a recursive bind brings along.
    pub fn below<'a>(&'a self, path: &'a [u8]) -> impl Iterator<Item = (&'a HostMount, &'a [u8])> {
        let inner = self.0.iter().filter(|mount| is_within(&mount.at, path) && mount.at.len() > path.len());
        inner.map(move |mount| (mount, trimmed(&mount.at[path.len()..])))
    }
}

/// Whether `path` is `above` or is below it; both are absolute, without slashes at their ends.
#[must_use]
pub fn is_within(path: &[u8], above: &[u8]) -> bool {
    if above == b"/" {
        return path.first() == Some(&b'/');
    }
    path.strip_prefix(above).is_some_and(|rest| matches!(rest.first(), None | Some(b'/')))
}

fn trimmed(path: &[u8]) -> &[u8] {
    path.strip_prefix(b"/").unwrap_or(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mount(at: &str, flags: MountFlags) -> HostMount {
        HostMount {
            at: at.into(),
            filesystem: Arc::from("ext4"),
            flags,
            whole: true,
            read_only_filesystem: false,
            labels: Labels::default(),
            personality: Some(Personality::default()),
            from: Provenance::rule("test"),
        }
    }

    #[test]
    fn the_nearest_mount_covers_a_path() {
        let plain = MountFlags::NONE;
        let mounts = HostMounts::new(vec![
            mount("/", plain),
            mount("/srv", plain),
            mount("/srv/a", MountFlags::READ_ONLY),
            mount("/srvx", plain),
        ]);
        assert_eq!(
            mounts.covering(b"/srv/a/b/c").unwrap().flags,
            MountFlags::READ_ONLY,
            "hidden below /srv/a"
        );
        assert_eq!(mounts.covering(b"/srv").unwrap().at, b"/srv");
        assert_eq!(mounts.covering(b"/etc").unwrap().at, b"/");
        let below: Vec<_> = mounts.below(b"/srv").map(|(_, rest)| rest.to_vec()).collect();
        assert_eq!(below, [b"a".to_vec()]);
        assert_eq!(mounts.below(b"/").count(), 3);
    }
}
