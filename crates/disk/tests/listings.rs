//! Listings as ordinary tools write them.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use mivask_model::acl::Acl;
use mivask_model::mode::Mode;
use mivask_model::tree::{Certainty, Content, Marks};

use fixtures::{find, gather, listing, missing, read};

/// What a listing gives, or what is wrong with it.
fn told(text: &str) -> String {
    match read(text.as_bytes()) {
        Ok(gathered) => listing(&gathered.tree),
        Err(error) => error.to_string(),
    }
}

const EXPECTED: &str = "drwxr-x--- 7101/7200 - .\n\
    drwxrws--- 7101/7300 - ./raw\n\
    -rw-r----- 7102/7200 - ./raw/level.csv\n\
    lrwxrwxrwx 0/0 - ./today -> raw/level.csv\n";

#[test]
fn find_writes_a_line_an_entry() {
    let plain = "750 7101 7200 d /srv/tides -> \n2770 7101 7300 d /srv/tides/raw -> \n\
        640 7102 7200 f /srv/tides/raw/level.csv -> \n777 0 0 l /srv/tides/today -> raw/level.csv\n";
    assert_eq!(told(plain), EXPECTED);
    let nul = [
        "750 7101 7200 d .",
        "",
        "2770 7101 7300 d ./raw",
        "",
        "640 7102 7200 f ./raw/level.csv",
        "",
        "777 0 0 l ./today",
        "raw/level.csv",
        "",
    ];
    assert_eq!(told(&nul.join("\0")), EXPECTED);
    let odd = &["755 0 0 d a", "", "644 0 0 f a/x\ny -> z", "", ""].join("\0");
    assert!(told(odd).ends_with("-rw-r--r-- 0/0 - \"./x\\x0ay -> z\"\n"), "{}", told(odd));
    let gathered = read(plain.as_bytes()).unwrap();
    assert!(gathered.tree.unrecorded().acls.as_ref().unwrap().contains("find"));
    assert_eq!(gathered.tree.place(find(&gathered.tree, "raw/level.csv")).to_string(), "source:3");
    // Files alone are given from where the listing was made.
    assert!(told("640 1 2 f ./raw/a\n").ends_with("-rw-r----- 1/2 - ./raw/a\n"));
}

#[test]
fn stat_writes_a_line_or_a_block_an_entry() {
    let lines = "750 7101 7200 directory /srv\n640 7102 7200 regular empty file /srv/level.csv\n";
    let gathered = read(lines.as_bytes()).unwrap();
    assert_eq!(gathered.tree.content(find(&gathered.tree, "level.csv")), &Content::Empty);
    assert!(missing(&gathered.tree, "").unwrap().starts_with("what else is in /srv"));
    let block = "  File: raw\n  Size: 60        \tBlocks: 0          IO Block: 4096   directory\n\
        Device: 0,42\tInode: 5           Links: 3\n\
        Access: (2770/drwxrws---)  Uid: ( 7101/   gauge)   Gid: ( 7300/ charts)\n\
        Access: 2026-11-02 10:00:00.000000000 +0000\nModify: 2026-11-02 10:00:00.000000000 +0000\n\
        Change: 2026-11-02 10:00:00.000000000 +0000\n Birth: -\n\
        \x20 File: raw/'it''s' -> x\n\
        Access: (0777/lrwxrwxrwx)  Uid: (    0/    root)   Gid: (    0/    root)\n";
    assert!(told(block).starts_with("drwxrws--- 7101/7300 - .\nlrwxrwxrwx 0/0 - "), "{}", told(block));
    let labelled = block.replace("Access: 2026", "Context: a_u:a_r:a_t:s0:c1,c2\nAccess: 2026");
    let tree = read(labelled.as_bytes()).unwrap().tree;
    let labels = tree.ids().map(|id| tree.extended(id).and_then(|extended| extended.label.as_deref()));
    assert_eq!(labels.collect::<Vec<_>>(), [Some("a_u:a_r:a_t:s0:c1,c2"), None]);
    assert_eq!(told(&labelled), told(block));
    // The format has no target: what is there stays unknown, and the rest is read.
    let with_link =
        "750 7101 7200 directory /srv\n777 0 0 symbolic link /srv/now\n640 0 0 regular file /srv/a\n";
    assert_eq!(told(with_link), "drwxr-x--- 7101/7200 - .\n-rw-r----- 0/0 - ./a\n");
    assert!(missing(&read(with_link.as_bytes()).unwrap().tree, "").unwrap().starts_with("what else is in"));
}

#[test]
fn long_listings_are_what_people_paste() {
    let recursive = "/srv/tides:\ntotal 12\ndrwxr-x---  3 7101 7200 4096 Nov  2 10:00 .\n\
        drwxr-xr-x 12    0    0 4096 Nov  2 10:00 ..\ndrwxrws---  2 7101 7300 4096 Nov  2  2025 raw\n\
        lrwxrwxrwx  1    0    0   13 Nov  2 10:00 today -> raw/level.csv\n\n/srv/tides/raw:\ntotal 4\n\
        drwxrws---  2 7101 7300 4096 Nov  2 10:00 .\ndrwxr-x---  3 7101 7200 4096 Nov  2 10:00 ..\n\
        -rw-r-----+ 1 7102 7200    2 2026-11-02 10:00 level.csv\n";
    let gathered = read(recursive.as_bytes()).unwrap();
    assert_eq!(listing(&gathered.tree), EXPECTED.replace("-rw-r----- 7102/7200", "?????????? ?/?"));
    assert!(missing(&gathered.tree, "raw/level.csv").unwrap().starts_with("the ACL of "));
    assert_eq!(missing(&gathered.tree, "raw"), None);
    let unrecorded = gathered.tree.unrecorded();
    assert_eq!(unrecorded.acls, None);
    assert!(
        unrecorded
            .attributes
            .as_ref()
            .unwrap()
            .ends_with("immutable or append-only: `ls` does not show that")
    );
    assert!(unrecorded.capabilities.is_some());

    let plain = "total 8\ndrwxrws--- 2 7101 7300 4096 Nov  2 10:00  raw\n\
        -rw-r--r-- 1 0 0 2 Nov  2 10:00 'two words'\ncrw-rw-rw- 1 0 0 1, 3 Nov  2 10:00 null\n";
    let gathered = read(plain.as_bytes()).unwrap();
    assert_eq!(
        listing(&gathered.tree),
        "?????????? ?/? - .\ncrw-rw-rw- 0/0 1,3 ./null\ndrwxrws--- 7101/7300 - ./raw\n-rw-r--r-- 0/0 - \"./two words\"\n"
    );
    assert!(missing(&gathered.tree, "raw").unwrap().starts_with("what is in the directories"));
    assert_eq!(missing(&gathered.tree, "").unwrap(), "owner and mode of the directory that source lists");
}

/// With inode numbers, blocks, labels and other quoting, and as find writes it.
#[test]
fn long_listings_with_more_columns() {
    const TREE: &str = "drwxr-x--- 7101/7200 - .\n-rw-r----- 7101/7200 - \"./two words\"\ndrwx------ 0/0 - ./d\n-rw-r--r-- 0/0 - ./d/x\n";
    let plain = ".:\ntotal 8\ndrwxr-x--- 3 7101 7200 4096 Nov  2 10:00 .\n-rw-r----- 1 7101 7200 2 Nov  2 10:00 two words\n\
        drwx------ 2 0 0 4096 Nov  2 10:00 d\n\n./d:\ntotal 0\ndrwx------ 2 0 0 4096 Nov  2 10:00 .\n-rw-r--r-- 1 0 0 0 Nov  2 10:00 x\n";
    let sorted = |text: &str| {
        let mut lines: Vec<String> =
            listing(&read(text.as_bytes()).unwrap().tree).lines().map(str::to_owned).collect();
        lines.sort();
        lines
    };
    let expected = {
        let mut lines: Vec<String> = TREE.lines().map(str::to_owned).collect();
        lines.sort();
        lines
    };
    let with = |change: &dyn Fn(&str) -> String| {
        plain
            .lines()
            .map(|line| if line.starts_with(['d', '-']) { change(line) } else { line.to_owned() } + "\n")
            .collect::<String>()
    };
    assert_eq!(sorted(plain), expected);
    assert_eq!(sorted(&with(&|line| format!(" 10010953    4 {line}"))), expected, "-i -s");
    assert_eq!(
        sorted(&with(&|line| format!("4.0K {}", line.replace(" 4096 ", " 4.0K ")))),
        expected,
        "-s -h"
    );
    assert_eq!(
        sorted(&with(&|line| line
            .replace(" 7101 7200 ", " 7101 7200 a_u:a_r:a_t:s0:c1,c2 ")
            .replace(" 0 0 ", " 0 0 ? "))),
        expected,
        "-Z"
    );
    let labelled = with(&|line| {
        line.replace(" 7101 7200 ", " 7101 7200 a_u:a_r:a_t:s0:c1,c2 ").replace(" 0 0 ", " 0 0 ? ")
    });
    let tree = read(labelled.as_bytes()).unwrap().tree;
    let labels = tree.ids().map(|id| tree.extended(id).and_then(|extended| extended.label.as_deref()));
    let labels = labels.collect::<std::collections::BTreeSet<_>>();
    assert_eq!(labels, [None, Some("a_u:a_r:a_t:s0:c1,c2")].into(), "-Z, `?` where there is none");
    assert_eq!(sorted(&with(&|line| line.replace("two words", "two\\ words"))), expected, "-b");
    let found = " 10010953      4 drwxr-x---   3 7101     7200         4096 Nov 30 08:01 .\n \
        10011002      0 -rw-r-----   1 7101     7200            0 Nov 30 08:01 ./two\\ words\n \
        10011015      4 drwx------   2 root     0            4096 Nov 30 08:01 ./d\n \
        10011016      0 -rw-r--r--   1 0        root            0 Nov 30 08:01 ./d/x\n";
    assert_eq!(sorted(found), expected, "find -ls");
    let tree = read(found.as_bytes()).unwrap().tree;
    assert_eq!((missing(&tree, ""), missing(&tree, "d")), (None, None), "find lists all there is");
}

/// Names of owners need the account files beside the listing; without them they are unknown.
#[test]
fn owners_by_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("pasted.txt");
    std::fs::write(&path, "total 4\n-rw-r----- 1 gauge charts 2 Nov  2 10:00 level.csv\n-rw-r----- 1 root root 2 Nov  2 10:00 x\n").unwrap();
    let tree = gather(&path).unwrap().tree;
    assert!(missing(&tree, "level.csv").unwrap().starts_with("the number of the user gauge"));
    assert_eq!(missing(&tree, "x"), None);
    std::fs::write(folder.path().join("passwd"), "root:x:0:0::/:/bin/sh\ngauge:x:7101:7200::/:\n").unwrap();
    std::fs::write(folder.path().join("group"), "charts:x:7300:\n").unwrap();
    let tree = gather(&path).unwrap().tree;
    let inode = tree.inode(find(&tree, "level.csv"));
    assert_eq!((inode.stored_owner().uid.raw(), inode.stored_owner().gid.raw()), (7101, 7300));
}

#[test]
fn getfacl_tells_every_entry() {
    let text = "# file: srv/tides\n# owner: 7101\n# group: 7200\n# flags: -s-\nuser::rwx\ngroup::r-x\nother::---\n\
        default:user::rwx\ndefault:group::r-x\ndefault:group:7300:rwx\ndefault:mask::rwx\ndefault:other::---\n\n\
        # file: srv/tides/two\\040words\n# owner: 7102\n# group: 7200\nuser::rw-\nuser:7105:rw-\t\t#effective:r--\n\
        group::r--\nmask::r--\nother::---\n\n# file: srv/tides/deep\n# owner: 0\n# group: 0\nuser::rwx\ngroup::---\nother::---\n\n\
        # file: srv/tides/deep/x\n# owner: gauge\n# group: 0\nuser::rw-\ngroup::---\nother::---\n";
    let gathered = read(text.as_bytes()).unwrap();
    let tree = &gathered.tree;
    assert_eq!(
        listing(tree),
        "drwxr-s--- 7101/7200 - .\ndrwx------ 0/0 - ./deep\n?????????? ?/? - ./deep/x\n-rw-r----- 7102/7200 - \"./two words\"\n"
    );
    let acl = Acl::parse("user:7105:rw-,group::r--,mask::r--", Mode::new(0o640)).unwrap();
    assert_eq!(tree.acl(find(tree, "two words")), Some(&acl));
    // Hardly any directory has no x; what has one may be an empty directory.
    let open = read(b"# file: a\n# owner: 0\n# group: 0\nuser::rwx\ngroup::r-x\nother::---\n\n# file: a/p\n# owner: 0\n# group: 0\nuser::rwx\ngroup::---\nother::---\n").unwrap();
    let doubt = open.tree.doubt(find(&open.tree, "p")).unwrap();
    assert!(doubt.kind.unknown().unwrap().fact.starts_with("whether a/p is a file or an empty directory"));
    assert_eq!(tree.default_acl(find(tree, "")).unwrap().groups[0].0.raw(), 7300);
    assert!(missing(tree, "two words").unwrap().starts_with("assumed: "), "it may be an empty directory");
    assert_eq!(missing(tree, "deep"), None, "something lies in it");
    assert_eq!(missing(tree, "deep/x").unwrap(), "owner and group of srv/tides/deep/x");
}

#[test]
fn getfacl_as_a_table() {
    let text = "# file: t/d\nUSER   7101      rwx  rwx\nuser   7              rwx\nuser   1000      r-X     \nGROUP  7200      r-x  r-x\n\
        mask             r--  rwx\nother            r-x  r-x\n\n# file: t/d/y\nUSER   root      rw-     \nGROUP  0         r--     \nother            ---     \n";
    let tree = read(text.as_bytes()).unwrap().tree;
    assert_eq!(listing(&tree), "drwxr--r-x 7101/7200 - .\n-rw-r----- 0/0 - ./y\n");
    let acl = Acl::parse("user:1000:r-x,group::r-x,mask::r--", Mode::new(0o745)).unwrap();
    assert_eq!(tree.acl(find(&tree, "")), Some(&acl));
    assert_eq!(tree.default_acl(find(&tree, "")).unwrap().users[0].0.raw(), 7);
    let mode = &tree.doubt(find(&tree, "y")).unwrap().mode;
    assert!(matches!(mode, Certainty::Assumed(text) if text.contains("no set-id")), "{mode:?}");
}

#[test]
fn mtree_in_its_three_styles() {
    let nested = "#mtree\n/set type=file uid=7101 gid=7200 mode=0640\n. type=dir mode=0750\n\
        raw type=dir gid=7300 mode=02770\n    level.csv uid=7102 \\\n        gid=7200 size=0 flags=schg\n..\n\
        today type=link uid=0 gid=0 mode=0777 link=raw/level.csv\n..\n";
    let size = |text: &str| text.replace("7102/7200 -", "7102/7200 0");
    assert_eq!(told(nested), size(EXPECTED));
    let tree = read(nested.as_bytes()).unwrap().tree;
    assert!(tree.inode(find(&tree, "raw/level.csv")).marks.has(Marks::IMMUTABLE));
    let whole = ". type=dir uid=7101 gid=7200 mode=0750\n./raw type=dir uid=7101 gid=7300 mode=u=rwx,g=rwxs\n\
        ./raw/level.csv type=file uid=7102 gid=7200 mode=0640\n./today type=link uid=0 gid=0 link=raw/level.csv\n";
    assert_eq!(told(whole), EXPECTED);
    let last = "type=dir uid=7101 gid=7200 mode=0750 .\ntype=dir uid=7101 gid=7300 mode=2770 ./raw\n\
        type=file uid=7102 gid=7200 mode=0640 ./raw/level.csv\ntype=link uid=0 gid=0 link=raw/level.csv ./today\n";
    assert_eq!(told(last), EXPECTED);
    assert_eq!(read(nested.as_bytes()).unwrap().tree.unrecorded().attributes, None, "it has flags=");
    assert!(read(whole.as_bytes()).unwrap().tree.unrecorded().attributes.is_some());
    let untyped = read(
        b"#mtree\n. type=dir uid=0 gid=0 mode=0755\n./a uid=1 gid=2 mode=0750\n./a/b uid=1 gid=2 mode=0640\n",
    )
    .unwrap();
    assert_eq!(listing(&untyped.tree), "drwxr-xr-x 0/0 - .\ndrwxr-x--- 1/2 - ./a\n-rw-r----- 1/2 - ./a/b\n");
    let b = untyped.tree.find(b"a/b").unwrap();
    let taken = &untyped.tree.doubt(b).unwrap().owner;
    assert_eq!(*taken, Certainty::Assumed("./a/b is a file: the listing does not give its type".into()));
    let gaps = read(b"#mtree\n. type=dir uid=0 gid=0 mode=0755\na type=file mode=0644 uname=gauge gname=root\nb type=dir uid=0 gid=0 mode=0700 ignore\n..\n").unwrap();
    assert!(missing(&gaps.tree, "a").unwrap().starts_with("the number of the user gauge"));
    assert!(missing(&gaps.tree, "b").unwrap().starts_with("what is in"));
}

#[test]
fn mtree_names_in_a_line_take_the_place_of_those_set() {
    let text = "#mtree\n/set type=file uid=0 gname=root mode=0640\n. type=dir mode=0755\n    a size=0x10\n    b gname=shadow\n\
        \x20   c gid=42 gname=shadow\n    d gname=shadow gid=43\n..\n";
    let gathered = read(text.as_bytes()).unwrap();
    assert_eq!(
        listing(&gathered.tree),
        "drwxr-xr-x 0/0 - .\n-rw-r----- 0/0 16 ./a\n?????????? ?/? - ./b\n-rw-r----- 0/42 - ./c\n-rw-r----- 0/43 - ./d\n"
    );
    assert!(missing(&gathered.tree, "b").unwrap().starts_with("the number of the group shadow"));
    assert!(
        told("#mtree\n. type=dir uid=0 gid=0 mode=0755\na size=0xzz\n").contains("size=0xzz does not read")
    );
}

/// What is wrong is said with the line and what a line should be.
#[test]
fn mistakes_have_a_place() {
    for (text, expected) in [
        ("750 0 0 d .\x00640 7 8 f ./a\0", "source:2:1: something that is not a link has a target"),
        ("750 7101 7200 d a\nrubbish\n", "source:2:1: this is not a line of such a listing"),
        ("750 0 0 d a\n644 0 0 f b/x\n", "source:2:1: b/x is not in a, the first directory"),
        ("750 0 0 d a\n644 0 0 f a/../x\n", "source:2:1: /../x: the path climbs out of the archive"),
        ("#mtree\n. type=dir uid=0 gid=0 mode=0755\nx type=swamp\n", "source:3:3: type=swamp does not read"),
        ("total 0\n-rw-r--r-- 1 0 0 x Nov 2 10:00 a\n", "source:2:1: this is not a line of a long listing"),
        ("# file: a\nuser:7101:rwz\n", "source:2:1: this is not an entry of an ACL"),
        ("750 0 0 directory a\nx\n", "source:2:1: this is not a line of such a listing"),
    ] {
        assert_eq!(told(text), expected);
    }
    let long = format!("755 0 0 d a\n644 0 0 f a/{}\n", "x".repeat(1 << 18));
    assert!(told(&long).contains("a line of more than 128 KiB"));
    let name = format!("755 0 0 d a\n644 0 0 f a/{}\n", "x".repeat(256));
    assert!(told(&name).contains("at most 255 bytes"), "{}", told(&name));
}
