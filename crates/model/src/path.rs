//! Paths as bytes, without looking at any disk.

/// The directory that the last component of `path` is in; slashes at its end do not count.
#[must_use]
pub fn parent(path: &[u8]) -> &[u8] {
    match trimmed(path).iter().rposition(|byte| *byte == b'/') {
        Some(0) | None => b"/",
        Some(at) => &path[..at],
    }
}

/// `path` without slashes at its end; nothing of the root.
#[must_use]
pub fn trimmed(path: &[u8]) -> &[u8] {
    let end = path.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
    &path[..end]
}

/// `path`, or `/` where it is empty.
#[must_use]
pub const fn or_root(path: &[u8]) -> &[u8] {
    if path.is_empty() { b"/" } else { path }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slashes_at_the_end_do_not_count() {
        assert_eq!(parent(b"/a/b//"), b"/a");
        assert_eq!((parent(b"/a"), parent(b"/"), parent(b"")), (&b"/"[..], &b"/"[..], &b"/"[..]));
        assert_eq!((trimmed(b"/a/"), trimmed(b"//")), (&b"/a"[..], &b""[..]));
    }
}
