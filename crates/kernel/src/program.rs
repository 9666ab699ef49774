//! The smallest program the kernel starts: it ends at once with status 0.

use std::path::Path;

/// A static ELF file for this machine; empty where none is known for it.
pub const PROGRAM: &[u8] = &program();

#[cfg(target_arch = "x86_64")]
const MACHINE: u8 = 62;
#[cfg(target_arch = "aarch64")]
const MACHINE: u8 = 183;

/// exit(0): mov edi, 0; mov eax, 60; syscall.
#[cfg(target_arch = "x86_64")]
const CODE: [u8; 12] = [0xbf, 0, 0, 0, 0, 0xb8, 60, 0, 0, 0, 0x0f, 0x05];
/// exit(0): mov x0, 0; mov x8, 93; svc 0.
#[cfg(target_arch = "aarch64")]
const CODE: [u8; 12] = [0x00, 0x00, 0x80, 0xd2, 0xa8, 0x0b, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4];

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
const fn program() -> [u8; 132] {
    const HEADERS: u8 = 64 + 56;
    let mut bytes = [0; 132];
    // ELF header: magic, 64 bits, little endian, version 1; executable; entry behind the headers.
    let header: [(usize, u8); 16] = [
        (0, 0x7f),
        (1, b'E'),
        (2, b'L'),
        (3, b'F'),
        (4, 2),
        (5, 1),
        (6, 1),
        (16, 2),
        (18, MACHINE),
        (20, 1),
        (24, HEADERS),
        (26, 0x40),
        (32, 64),
        (52, 64),
        (54, 56),
        (56, 1),
    ];
    // Program header: load, readable and executable, at 0x400000, whole file, page-aligned.
    let load: [(usize, u8); 7] =
        [(64, 1), (68, 5), (82, 0x40), (90, 0x40), (96, 132), (104, 132), (113, 0x10)];
    let mut index = 0;
    while index < header.len() {
        bytes[header[index].0] = header[index].1;
        index += 1;
    }
    index = 0;
    while index < load.len() {
        bytes[load[index].0] = load[index].1;
        index += 1;
    }
    index = 0;
    while index < CODE.len() {
        bytes[HEADERS as usize + index] = CODE[index];
        index += 1;
    }
    bytes
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const fn program() -> [u8; 0] {
    []
}

/// Whether the file that just ran cannot be a script, since it is exactly as long as [`PROGRAM`].
///
/// A program may be run without being readable, so its first bytes cannot be looked at.
pub(crate) fn is_program_by_size(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|facts| facts.len() == PROGRAM.len() as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn the_program_starts_and_ends_with_status_0() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("program");
        std::fs::write(&path, PROGRAM).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        assert!(std::process::Command::new(&path).status().unwrap().success());
    }
}
