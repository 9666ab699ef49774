//! Archives, packed or not, and what hostile ones may claim.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::io::Write;

use mivask_model::tree::{Content, Unrecorded};
use mivask_model::xattr;
use tar::EntryType;

use fixtures::{DIR, FILE, Member, archive, find, listing, missing, read};

fn sample() -> Vec<u8> {
    let capabilities = xattr::encode_capabilities(Some(&"NET_RAW=ep".parse().unwrap()));
    archive(&[
        Member { path: "./", mode: 0o750, owner: (7101, 7200), ..DIR },
        Member { path: "./data/", ..DIR },
        Member { path: "./data/level.csv", owner: (7102, 7300), mode: 0o640, content: b"1\n", ..FILE },
        Member { path: "./data/again", kind: EntryType::Link, link: "data/level.csv", ..FILE },
        Member { path: "./link", kind: EntryType::Symlink, link: "data/level.csv", ..FILE },
        Member {
            path: "./program",
            mode: 0o755,
            content: b"\x7fELF and more",
            pax: &[("SCHILY.xattr.security.capability", &capabilities)],
            ..FILE
        },
        Member { path: "./null", kind: EntryType::Char, mode: 0o666, ..FILE },
        Member { path: "./deep/er/file", ..FILE },
    ])
}

const SAMPLE: &str = "drwxr-x--- 7101/7200 - .\n\
    drwxr-xr-x 0/0 - ./data\n\
    -rw-r----- 7102/7300 2 ./data/again\n\
    -rw-r----- 7102/7300 2 ./data/level.csv link to ./data/again\n\
    drwxr-xr-x 0/0 - ./deep\n\
    drwxr-xr-x 0/0 - ./deep/er\n\
    -rw-r--r-- 0/0 0 ./deep/er/file\n\
    lrwxrwxrwx 0/0 - ./link -> data/level.csv\n\
    crw-rw-rw- 0/0 1,3 ./null\n\
    -rwxr-xr-x 0/0 13 ./program\n";

#[test]
fn an_archive_is_a_tree_however_it_is_packed() {
    let plain = sample();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(&plain).unwrap();
    let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
    bzip2.write_all(&plain).unwrap();
    let packed = [
        plain.clone(),
        gzip.finish().unwrap(),
        bzip2.finish().unwrap(),
        zstd::encode_all(&plain[..], 1).unwrap(),
    ];
    for bytes in packed {
        let gathered = read(&bytes).unwrap();
        let tree = &gathered.tree;
        assert_eq!(listing(tree), SAMPLE);
        assert_eq!(tree.content(find(tree, "program")), &Content::Program);
        assert_eq!(tree.capabilities(find(tree, "program")).unwrap().to_string(), "NET_RAW=ep");
        assert!(missing(tree, "deep/er").unwrap().starts_with("assumed: a directory that "));
        let unrecorded = tree.unrecorded();
        assert!(unrecorded.acls.as_ref().unwrap().contains("the archive has none"));
        assert_eq!(
            (&unrecorded.capabilities, &unrecorded.attributes),
            (&None, &None),
            "it tells of capabilities"
        );
    }
}

#[test]
fn the_last_word_on_a_path_counts() {
    let bytes = archive(&[
        Member { path: "a/", ..DIR },
        Member { path: "a/b", mode: 0o600, ..FILE },
        Member { path: "a/b", mode: 0o640, owner: (1, 1), ..FILE },
        Member { path: "a/", mode: 0o711, ..DIR },
        Member { path: "c", ..FILE },
        Member { path: "c/", mode: 0o700, ..DIR },
        Member { path: "d", kind: EntryType::Symlink, link: "a", ..FILE },
        Member { path: "d/through", ..FILE },
    ]);
    let untold = read(&bytes).unwrap().tree.unrecorded().capabilities.clone();
    assert_eq!(untold.as_deref(), Some("no program has file capabilities: the archive has none"));
    let expected = "drwxr-xr-x 0/0 - .\ndrwx--x--x 0/0 - ./a\n-rw-r----- 1/1 0 ./a/b\n-rw-r--r-- 0/0 0 ./a/through\n\
        drwx------ 0/0 - ./c\nlrwxrwxrwx 0/0 - ./d -> a\n";
    assert_eq!(listing(&read(&bytes).unwrap().tree), expected);
}

/// Names of any bytes, ids past 2^21, and ACLs as text.
#[test]
fn extended_headers_are_read() {
    let bytes = archive(&[Member {
        path: "short",
        mode: 0o640,
        pax: &[
            ("path", b"long\nand\xffodd"),
            ("uid", b"4000000000"),
            ("gid", b"7200"),
            ("SCHILY.acl.access", b"user::rw-,user:gauge:r--:7101,group::r--,mask::r--,other::---"),
        ],
        ..FILE
    }]);
    let gathered = read(&bytes).unwrap();
    let id = gathered.tree.find(b"long\nand\xffodd").unwrap();
    assert_eq!(gathered.tree.inode(id).stored_owner().uid.raw(), 4_000_000_000);
    assert_eq!(gathered.tree.acl(id).unwrap().users[0].0.raw(), 7101);
    let untold = "no program has file capabilities: the archive has none";
    let unrecorded = Unrecorded { capabilities: Some(untold.into()), ..Unrecorded::default() };
    assert_eq!(*gathered.tree.unrecorded(), unrecorded, "it tells of ACLs");
    let named = archive(&[Member {
        path: "f",
        pax: &[("SCHILY.acl.access", b"user::rw-,user:gauge:r--,group::r--,mask::r--,other::---")],
        ..FILE
    }]);
    let gathered = read(&named).unwrap();
    assert!(missing(&gathered.tree, "f").unwrap().contains("without numbers"));
}

/// A header that claims this size.
fn huge(size: u64, kind: EntryType) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(kind);
    header.set_size(size);
    header.set_cksum();
    header.as_bytes().to_vec()
}

type Case = (&'static str, Vec<u8>, &'static str);

/// Archives that are refused, with a part of what is said.
fn refused() -> Vec<Case> {
    let mut malformed = archive(&[Member { path: "f", pax: &[("uid", b"1")], ..FILE }]);
    malformed[512..514].copy_from_slice(b"99");
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(&sample()).unwrap();
    let mut gzip = gzip.finish().unwrap();
    gzip.truncate(gzip.len() / 2);
    let climbing = |path| archive(&[Member { path, ..FILE }]);
    let link = archive(&[Member { path: "a", kind: EntryType::Link, link: "../x", ..FILE }]);
    vec![
        ("climbing", climbing("../../etc/passwd"), "climbs out of the archive"),
        ("climbing within", climbing("a/../../b"), "climbs out of the archive"),
        ("climbing link", link, "climbs out"),
        ("a name of 4 GiB", huge(4 << 30, EntryType::GNULongName), "more than 1 MiB"),
        ("a pax header of 8 EiB", huge(u64::MAX / 2, EntryType::XHeader), "more than 1 MiB"),
        ("a file of 8 EiB", huge(u64::MAX / 2, EntryType::Regular), "it was cut"),
        ("cut within a header", sample()[..700].to_vec(), "it was cut"),
        ("cut within a member", sample()[..512 * 4 + 1].to_vec(), "it was cut"),
        (
            "a header that is none",
            [&sample()[..1024], &[b'x'; 512][..]].concat(),
            "its checksum does not match",
        ),
        (
            "an owner past 32 bits",
            archive(&[Member { path: "f", pax: &[("uid", b"5000000000")], ..FILE }]),
            "not a number of 32 bits",
        ),
        ("a malformed pax record", malformed, "extended header is malformed"),
        ("gzip that is cut", gzip, "unpacked"),
    ]
}

/// Each is refused with words; none takes memory by what it claims.
#[test]
fn hostile_archives_are_refused() {
    for (name, bytes, expected) in refused() {
        let error = read(&bytes).expect_err(name).to_string();
        assert!(error.contains(expected), "{name}: {error}");
    }
}

/// Absolute paths are read as paths of the archive; links to nothing and in circles are counted, not followed.
#[test]
fn odd_archives_are_read_safely() {
    let odd = archive(&[
        Member { path: "/abs", ..FILE },
        Member { path: "self", kind: EntryType::Link, link: "self", ..FILE },
        Member { path: "one", kind: EntryType::Link, link: "two", ..FILE },
        Member { path: "two", kind: EntryType::Link, link: "one", ..FILE },
        Member { path: "round", kind: EntryType::Symlink, link: "round", ..FILE },
        Member { path: "round/x", ..FILE },
    ]);
    let gathered = read(&odd).unwrap();
    assert_eq!(gathered.holes.failed, 3);
    assert!(listing(&gathered.tree).contains("-rw-r--r-- 0/0 0 ./abs\n"));
}

/// A member that unpacks to gigabytes of nothing costs no memory.
#[test]
fn a_bomb_is_passed_over() {
    let mut bomb = huge(2 << 30, EntryType::Regular);
    bomb[..4].copy_from_slice(b"zero");
    let mut header = tar::Header::from_byte_slice(&bomb).clone();
    header.set_cksum();
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
    encoder.write_all(header.as_bytes()).unwrap();
    let nothing = vec![0; 1 << 20];
    (0..2048).for_each(|_| encoder.write_all(&nothing).unwrap());
    assert_eq!(listing(&read(&encoder.finish().unwrap()).unwrap().tree).lines().count(), 2);
}

#[test]
fn what_is_no_source_is_said_with_what_would_be_one() {
    for bytes in [&b""[..], b"hello\n", b"\x04\x22\x4d\x18lz", &[0; 4096]] {
        let error = read(bytes).unwrap_err();
        assert!(error.help.is_some(), "{error}");
    }
}

/// An unpacker needs nothing behind the content of the last member.
#[test]
fn the_end_may_be_missing() {
    let mut bytes = archive(&[Member { path: "a", content: b"x", ..FILE }]);
    while bytes.last() == Some(&0) {
        bytes.pop();
    }
    assert_eq!(listing(&read(&bytes).unwrap().tree), "drwxr-xr-x 0/0 - .\n-rw-r--r-- 0/0 1 ./a\n");
}

#[test]
fn one_tree_is_not_chosen_from() {
    let bytes = archive(&[FILE, Member { path: "a", ..FILE }]);
    let ask = |name: Option<&str>, platform: Option<&str>, hint: bool| {
        let choice = mivask_disk::image::Choice {
            name: name.map(str::to_owned),
            platform: platform.map(str::to_owned),
            name_is_a_hint: hint,
        };
        let options = mivask_disk::live::Options { choice, ..mivask_disk::live::Options::default() };
        mivask_disk::source::read("source", &mut &bytes[..], &options).map(drop)
    };
    for (name, platform) in [(Some("tides:1"), None), (None, Some("linux/arm64"))] {
        let error = ask(name, platform, false).unwrap_err();
        assert!(error.message.contains("one tree of files"), "{error}");
    }
    assert!(ask(None, None, false).is_ok() && ask(Some("tides:1"), None, true).is_ok());
}
