//! Paths component by component, whatever the number of slashes between.

/// The components of `path`; `.` and `..` are components as any other.
pub(super) fn parts(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/').filter(|part| !part.is_empty())
}

/// How many there are.
pub(super) fn depth(path: &[u8]) -> usize {
    parts(path).count()
}

/// Whether both are written with the same components.
pub(super) fn same_path(a: &[u8], b: &[u8]) -> bool {
    parts(a).eq(parts(b))
}
