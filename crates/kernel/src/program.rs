//! A tiny program the kernel starts: it writes its effective ids and ends with status 0.

use std::path::Path;

use mivask_core::ids::{InsideGid, InsideUid};
use mivask_core::outcome::RunsAs;

/// A static ELF file for this machine; empty where none is known for it.
pub const PROGRAM: &[u8] = &program();

#[cfg(target_arch = "x86_64")]
const MACHINE: u8 = 62;
#[cfg(target_arch = "aarch64")]
const MACHINE: u8 = 183;

/// geteuid, push it; getegid, push it; write(1, stack, 16); exit(0).
#[cfg(target_arch = "x86_64")]
#[rustfmt::skip]
const CODE: [u8; 47] = [
    0xb8, 107, 0, 0, 0, 0x0f, 0x05, 0x50, // mov eax, geteuid; syscall; push rax
    0xb8, 108, 0, 0, 0, 0x0f, 0x05, 0x50, // mov eax, getegid; syscall; push rax
    0xbf, 1, 0, 0, 0, 0x48, 0x89, 0xe6,   // mov edi, 1; mov rsi, rsp
    0xba, 16, 0, 0, 0, 0xb8, 1, 0, 0, 0,  // mov edx, 16; mov eax, write
    0x0f, 0x05, 0x31, 0xff,               // syscall; xor edi, edi
    0xb8, 60, 0, 0, 0, 0x0f, 0x05, 0xcc, 0xcc, // mov eax, exit; syscall
];
/// The same: 64-bit words at the stack's top, group first.
#[cfg(target_arch = "aarch64")]
#[rustfmt::skip]
const CODE: [u8; 60] = [
    0xff, 0x43, 0x00, 0xd1,                         // sub sp, sp, 16
    0xe8, 0x15, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, geteuid; svc 0
    0xe0, 0x07, 0x00, 0xf9,                         // str x0, [sp, 8]
    0x28, 0x16, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, getegid; svc 0
    0xe0, 0x03, 0x00, 0xf9,                         // str x0, [sp]
    0x20, 0x00, 0x80, 0xd2, 0xe1, 0x03, 0x00, 0x91, // mov x0, 1; mov x1, sp
    0x02, 0x02, 0x80, 0xd2, 0x08, 0x08, 0x80, 0xd2, // mov x2, 16; mov x8, write
    0x01, 0x00, 0x00, 0xd4, 0x00, 0x00, 0x80, 0xd2, // svc 0; mov x0, 0
    0xa8, 0x0b, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, exit; svc 0
];

/// Bytes of the two headers.
#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
const HEADERS: usize = 64 + 56;

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
#[expect(clippy::cast_possible_truncation, reason = "headers and code have fewer than 256 bytes together")]
const fn program() -> [u8; HEADERS + CODE.len()] {
    const SIZE: u8 = (HEADERS + CODE.len()) as u8;
    let mut bytes = [0; HEADERS + CODE.len()];
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
        (24, HEADERS as u8),
        (26, 0x40),
        (32, 64),
        (52, 64),
        (54, 56),
        (56, 1),
    ];
    // Program header: load, readable and executable, at 0x400000, whole file, page-aligned.
    let load: [(usize, u8); 7] =
        [(64, 1), (68, 5), (82, 0x40), (90, 0x40), (96, SIZE), (104, SIZE), (113, 0x10)];
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
        bytes[HEADERS + index] = CODE[index];
        index += 1;
    }
    bytes
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const fn program() -> [u8; 0] {
    []
}

/// The effective ids in what the program wrote: two 64-bit words, group first.
pub(crate) fn effective_ids(written: &[u8]) -> Option<RunsAs> {
    let (gid, rest) = written.split_first_chunk::<8>()?;
    let (uid, _) = rest.split_first_chunk::<8>()?;
    let id = |word: &[u8; 8]| u32::try_from(u64::from_le_bytes(*word)).ok();
    Some(RunsAs { uid: InsideUid::new(id(uid)?), gid: InsideGid::new(id(gid)?) })
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
    fn the_program_writes_its_ids_and_ends_with_status_0() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("program");
        std::fs::write(&path, PROGRAM).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        let output = std::process::Command::new(&path).output().unwrap();
        assert!(output.status.success());
        let ids = effective_ids(&output.stdout).unwrap();
        assert_eq!(ids.uid.raw(), rustix::process::geteuid().as_raw());
        assert_eq!(ids.gid.raw(), rustix::process::getegid().as_raw());
    }
}
