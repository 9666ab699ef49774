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

/// `path` from the root, without doubled slashes, `.` and a slash at its end, and with `..` taken by its text alone: as runtimes have
/// it before they mount (Go's `path.Clean`). `/` where nothing is left.
#[must_use]
pub fn cleaned(path: &[u8]) -> Vec<u8> {
    let mut parts: Vec<&[u8]> = Vec::new();
    for part in path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".") {
        if part == b".." {
            parts.pop();
        } else {
            parts.push(part);
        }
    }
    [b"/", parts.join(&b'/').as_slice()].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dots_and_doubled_slashes_are_taken_by_their_text() {
        for (given, left) in [
            ("/a/../b", "/b"),
            ("//a/./b//", "/a/b"),
            ("a", "/a"),
            ("/..", "/"),
            ("", "/"),
            ("/a/..b", "/a/..b"),
        ] {
            assert_eq!(cleaned(given.as_bytes()), left.as_bytes(), "{given}");
        }
    }

    #[test]
    fn slashes_at_the_end_do_not_count() {
        assert_eq!(parent(b"/a/b//"), b"/a");
        assert_eq!((parent(b"/a"), parent(b"/"), parent(b"")), (&b"/"[..], &b"/"[..], &b"/"[..]));
        assert_eq!((trimmed(b"/a/"), trimmed(b"//")), (&b"/a"[..], &b""[..]));
    }
}
