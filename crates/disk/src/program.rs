//! What execve makes of a file, by its first bytes.

use mivask_model::tree::Content;

/// What the first 256 bytes of a file say (`search_binary_handler`; binfmt_misc may know more).
#[must_use]
pub fn content(head: &[u8]) -> Content {
    if head.is_empty() {
        return Content::Empty;
    }
    if head.starts_with(b"\x7fELF") {
        return Content::Program;
    }
    let Some(line) = head.strip_prefix(b"#!") else {
        return Content::Data;
    };
    let line = line.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let blank = |byte: &u8| matches!(byte, b' ' | b'\t');
    let start = line.iter().position(|byte| !blank(byte)).unwrap_or(line.len());
    let path = line[start..].split(blank).next().unwrap_or_default();
    // A path that does not end within the bytes the kernel reads is not a path (load_script).
    let ends = start + 2 + path.len() < 256;
    match path {
        [] => Content::Data,
        _ if !ends => Content::Data,
        path => Content::Script(path.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_bytes_tell_programs_scripts_and_data() {
        assert_eq!(content(b""), Content::Empty);
        assert_eq!(content(b"\x7fELF\x02"), Content::Program);
        assert_eq!(content(b"depth,level\n"), Content::Data);
        assert_eq!(content(b"#! /bin/sh -e\nset -u\n"), Content::Script(b"/bin/sh"[..].into()));
        assert_eq!(content(b"#!\n"), Content::Data);
        assert_eq!(content(&[&b"#!/"[..], &[b'x'; 300]].concat()[..256]), Content::Data);
    }
}
