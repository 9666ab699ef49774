//! A tiny program the kernel starts: as the interpreter of a script it opens that and ends with the errno where it may not;
//! then it writes its effective ids and capabilities and ends with status 0.

use mivask_model::caps::CapabilitySet;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::outcome::RunsAs;

/// A static ELF file for this machine; empty where none is known for it.
pub const PROGRAM: &[u8] = &program();

#[cfg(target_arch = "x86_64")]
const MACHINE: u8 = 62;
#[cfg(target_arch = "aarch64")]
const MACHINE: u8 = 183;

/// open(argument, O_RDONLY) of each argument; geteuid, getegid, capget and write(1, stack, 40): ids at 0 and 8, three pairs of capability words from 16 on.
#[cfg(target_arch = "x86_64")]
#[rustfmt::skip]
const CODE: [u8; 138] = [
    0x49, 0x89, 0xe5, 0x49, 0x83, 0xc5, 0x10,       // mov r13, rsp; add r13, 16
    0x49, 0x8b, 0x7d, 0, 0x48, 0x85, 0xff,          // each: mov rdi, [r13]; test rdi, rdi
    0x74, 32, 0x31, 0xf6, 0x31, 0xd2,               // jz opened; xor esi, esi; xor edx, edx
    0xb8, 2, 0, 0, 0, 0x0f, 0x05,                   // mov eax, open; syscall
    0x85, 0xc0, 0x78, 6, 0x49, 0x83, 0xc5, 8,       // test eax, eax; js failed; add r13, 8
    0xeb, 0xe2,                                     // jmp each
    0xf7, 0xd8, 0x89, 0xc7,                         // failed: neg eax; mov edi, eax
    0xb8, 60, 0, 0, 0, 0x0f, 0x05,                  // mov eax, exit; syscall
                                                    // opened:
    0x48, 0x83, 0xec, 0x40,                         // sub rsp, 64
    0xb8, 107, 0, 0, 0, 0x0f, 0x05,                 // mov eax, geteuid; syscall
    0x48, 0x89, 0x04, 0x24,                         // mov [rsp], rax
    0xb8, 108, 0, 0, 0, 0x0f, 0x05,                 // mov eax, getegid; syscall
    0x48, 0x89, 0x44, 0x24, 0x08,                   // mov [rsp+8], rax
    0xc7, 0x44, 0x24, 0x30, 0x22, 0x05, 0x08, 0x20, // mov dword [rsp+48], _LINUX_CAPABILITY_VERSION_3
    0xc7, 0x44, 0x24, 0x34, 0, 0, 0, 0,             // mov dword [rsp+52], 0
    0xb8, 125, 0, 0, 0,                             // mov eax, capget
    0x48, 0x8d, 0x7c, 0x24, 0x30,                   // lea rdi, [rsp+48]
    0x48, 0x8d, 0x74, 0x24, 0x10, 0x0f, 0x05,       // lea rsi, [rsp+16]; syscall
    0xbf, 1, 0, 0, 0, 0x48, 0x89, 0xe6,             // mov edi, 1; mov rsi, rsp
    0xba, 40, 0, 0, 0, 0xb8, 1, 0, 0, 0,            // mov edx, 40; mov eax, write
    0x0f, 0x05, 0x31, 0xff,                         // syscall; xor edi, edi
    0xb8, 60, 0, 0, 0, 0x0f, 0x05, 0xcc,            // mov eax, exit; syscall
];
/// The same for 64-bit ARM.
#[cfg(target_arch = "aarch64")]
#[rustfmt::skip]
const CODE: [u8; 152] = [
    0xf3, 0x03, 0x00, 0x91, 0x73, 0x42, 0x00, 0x91, // mov x19, sp; add x19, x19, 16
    0x61, 0x02, 0x40, 0xf9, 0x81, 0x01, 0x00, 0xb4, // each: ldr x1, [x19]; cbz x1, opened
    0x60, 0x0c, 0x80, 0x92, 0x02, 0x00, 0x80, 0xd2, // mov x0, AT_FDCWD; mov x2, 0
    0x03, 0x00, 0x80, 0xd2, 0x08, 0x07, 0x80, 0xd2, // mov x3, 0; mov x8, openat
    0x01, 0x00, 0x00, 0xd4, 0x60, 0x00, 0xf8, 0xb7, // svc 0; tbnz x0, 63, failed
    0x73, 0x22, 0x00, 0x91, 0xf7, 0xff, 0xff, 0x17, // add x19, x19, 8; b each
    0xe0, 0x03, 0x00, 0xcb, 0xa8, 0x0b, 0x80, 0xd2, // failed: neg x0, x0; mov x8, exit
    0x01, 0x00, 0x00, 0xd4,                         // svc 0; opened:
    0xff, 0x03, 0x01, 0xd1,                         // sub sp, sp, 64
    0xe8, 0x15, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, geteuid; svc 0
    0xe0, 0x03, 0x00, 0xf9,                         // str x0, [sp]
    0x28, 0x16, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, getegid; svc 0
    0xe0, 0x07, 0x00, 0xf9,                         // str x0, [sp, 8]
    0x41, 0xa4, 0x80, 0x52, 0x01, 0x01, 0xa4, 0x72, // mov w1, _LINUX_CAPABILITY_VERSION_3
    0xe1, 0x33, 0x00, 0xb9, 0xff, 0x37, 0x00, 0xb9, // str w1, [sp, 48]; str wzr, [sp, 52]
    0xe0, 0xc3, 0x00, 0x91, 0xe1, 0x43, 0x00, 0x91, // add x0, sp, 48; add x1, sp, 16
    0x48, 0x0b, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, capget; svc 0
    0x20, 0x00, 0x80, 0xd2, 0xe1, 0x03, 0x00, 0x91, // mov x0, 1; mov x1, sp
    0x02, 0x05, 0x80, 0xd2, 0x08, 0x08, 0x80, 0xd2, // mov x2, 40; mov x8, write
    0x01, 0x00, 0x00, 0xd4, 0x00, 0x00, 0x80, 0xd2, // svc 0; mov x0, 0
    0xa8, 0x0b, 0x80, 0xd2, 0x01, 0x00, 0x00, 0xd4, // mov x8, exit; svc 0
];

/// Bytes of the two headers.
#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
const HEADERS: usize = 64 + 56;

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
const fn program() -> [u8; HEADERS + CODE.len()] {
    const START: [u8; 8] = (HEADERS as u64).to_le_bytes();
    const SIZE: [u8; 8] = (HEADERS as u64 + CODE.len() as u64).to_le_bytes();
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
        (24, START[0]),
        (26, 0x40),
        (32, 64),
        (52, 64),
        (54, 56),
        (56, 1),
    ];
    // Program header: load, readable and executable, at 0x400000, whole file, page-aligned.
    let load: [(usize, u8); 9] = [
        (64, 1),
        (68, 5),
        (82, 0x40),
        (90, 0x40),
        (96, SIZE[0]),
        (97, SIZE[1]),
        (104, SIZE[0]),
        (105, SIZE[1]),
        (113, 0x10),
    ];
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

/// The identity in what the program wrote.
pub(crate) fn runs_as(written: &[u8]) -> Option<RunsAs> {
    let word = |at: usize| Some(u32::from_le_bytes(written.get(at..at + 4)?.try_into().ok()?));
    // Two words of effective capabilities, each with its permitted and inheritable ones behind it.
    let set =
        |at: usize| Some(CapabilitySet::from_bits(u64::from(word(at)?) | u64::from(word(at + 12)?) << 32));
    Some(RunsAs {
        uid: Held::Id(InsideUid::new(word(0)?)),
        gid: Held::Id(InsideGid::new(word(8)?)),
        effective: set(16)?,
        permitted: set(20)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_program_writes_its_ids_and_ends_with_status_0() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("program");
        let bytes = folder.path().join("bytes");
        std::fs::write(&bytes, PROGRAM).unwrap();
        // Whoever forks beside this inherits what is open for writing, and such a file does not run (ETXTBSY).
        let mut install = std::process::Command::new("install");
        assert!(install.args(["-m", "755"]).arg(&bytes).arg(&path).status().unwrap().success());
        let output = std::process::Command::new(&path).output().unwrap();
        assert!(output.status.success());
        let ids = runs_as(&output.stdout).unwrap();
        assert!(ids.uid.is(InsideUid::new(rustix::process::geteuid().as_raw())));
        assert!(ids.gid.is(InsideGid::new(rustix::process::getegid().as_raw())));
        let held = rustix::thread::capabilities(None).unwrap();
        assert_eq!(ids.effective.bits(), held.effective.bits());
        assert_eq!(ids.permitted.bits(), held.permitted.bits());
    }
}
