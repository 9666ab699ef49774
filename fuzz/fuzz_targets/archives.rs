//! Archives with right checksums around wrong fields, and layers of images in them.

#![no_main]

mod kept;

use arbitrary::Arbitrary;
use libfuzzer_sys::fuzz_target;

/// One member: which fields, and what is in them.
#[derive(Arbitrary, Debug)]
struct Member {
    name: Vec<u8>,
    target: Vec<u8>,
    kind: u8,
    mode: [u8; 8],
    uid: [u8; 8],
    gid: [u8; 8],
    size: u16,
    content: Vec<u8>,
    gnu: bool,
}

const KINDS: &[u8] = b"0123456xgLKVD\0";

impl Member {
    fn bytes(&self) -> Vec<u8> {
        let mut header = [0_u8; 512];
        let mut put = |at: usize, most: usize, from: &[u8]| {
            let length = from.len().min(most);
            header[at..at + length].copy_from_slice(&from[..length]);
        };
        put(0, 100, &self.name);
        put(100, 8, &self.mode);
        put(108, 8, &self.uid);
        put(116, 8, &self.gid);
        put(124, 12, format!("{:011o}", self.size).as_bytes());
        put(156, 1, &[KINDS[usize::from(self.kind) % KINDS.len()]]);
        put(157, 100, &self.target);
        put(257, 8, if self.gnu { b"ustar  \0" } else { b"ustar\x0000" });
        put(148, 8, b"        ");
        let sum: u32 = header.iter().map(|byte| u32::from(*byte)).sum();
        header[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        let mut content = self.content.clone();
        content.resize(usize::from(self.size).min(1 << 16), b' ');
        content.resize(content.len().next_multiple_of(512), 0);
        [&header[..], &content].concat()
    }
}

fuzz_target!(|members: Vec<Member>| {
    let mut bytes: Vec<u8> = members.iter().take(50).flat_map(Member::bytes).collect();
    bytes.extend([0; 1024]);
    kept::read(&bytes);
});
