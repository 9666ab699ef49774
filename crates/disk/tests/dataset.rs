//! Datasets: every name of a tree is a row, whose class and way say all that decides about it; and nothing half-written is seen.

#![cfg(feature = "parquet")]
#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use mivask_disk::dataset::{Apart, Reader, Target, Unnamed, Volume, VolumeName, days, volumes, write_tree};
use mivask_disk::error::DiskError;
use mivask_disk::live::{self, Options, record};
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Entry, InodeId, Tree};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::{Field, Row};

fn target(folder: &Path, volume: &str) -> Target {
    let (volume, date) = (volume.parse().unwrap(), "2026-12-01".to_owned());
    Target { folder: folder.to_path_buf(), volume, date, begin }
}

/// A file whose name goes when it is dropped.
struct Plain(tempfile::NamedTempFile);

impl Unnamed for Plain {
    fn file(&self) -> &File {
        self.0.as_file()
    }

    fn name(self: Box<Self>, path: &Path) -> std::io::Result<()> {
        self.0.persist(path).map(drop).map_err(Into::into)
    }
}

fn begin(folder: &Path) -> std::io::Result<Box<dyn Unnamed>> {
    Ok(Box::new(Plain(tempfile::Builder::new().prefix(".").tempfile_in(folder)?)))
}

fn part(folder: &Path, volume: &str) -> PathBuf {
    folder.join(format!("entries/volume={volume}/date=2026-12-01/part.parquet"))
}

fn volume(
    folder: &Path,
    name: &VolumeName,
    date: Option<&str>,
    apart: Apart<'_>,
) -> Result<Volume, DiskError> {
    Reader::open(folder)?.volume(name, date, apart)
}

fn tree(folder: &Path, name: &VolumeName, date: Option<&str>) -> Result<Tree, DiskError> {
    Reader::open(folder)?.tree(name, date)
}

fn rows(path: &Path) -> Vec<BTreeMap<String, Field>> {
    let reader = SerializedFileReader::new(File::open(path).unwrap()).unwrap();
    let columns =
        |row: Row| row.get_column_iter().map(|(name, field)| (name.clone(), field.clone())).collect();
    reader.get_row_iter(None).unwrap().map(|row| columns(row.unwrap())).collect()
}

fn tables(folder: &Path, name: &str) -> Vec<BTreeMap<String, Field>> {
    let files = std::fs::read_dir(folder.join(name)).unwrap();
    files.flat_map(|file| rows(&file.unwrap().path())).collect()
}

fn number(row: &BTreeMap<String, Field>, name: &str) -> Option<i64> {
    if let Field::Int(number) = row[name] {
        return Some(number.into());
    }
    if let Field::Long(number) = row[name] { Some(number) } else { None }
}

fn word(row: &BTreeMap<String, Field>, name: &str) -> Option<String> {
    if let Field::Str(text) = &row[name] { Some(text.clone()) } else { None }
}

/// Every row with what its class and its way say, in words: the classes of the directories above, the outermost first.
fn told(folder: &Path, volume: &str) -> BTreeSet<String> {
    let classes: BTreeMap<i64, _> =
        tables(folder, "classes").into_iter().map(|row| (number(&row, "class").unwrap(), row)).collect();
    let ways: BTreeMap<i64, _> =
        tables(folder, "ways").into_iter().map(|row| (number(&row, "way").unwrap(), row)).collect();
    let class = |id: i64| {
        let row = &classes[&id];
        let mode = number(row, "mode").map_or("?".to_owned(), |mode| format!("{mode:04o}"));
        let id = |name| number(row, name).map_or("?".to_owned(), |id| id.to_string());
        let rest =
            ["acl", "default_acl", "capabilities", "label", "content", "assumed"].map(|name| word(row, name));
        format!(
            "{} {}:{} {mode} {} {rest:?}",
            word(row, "kind").unwrap(),
            id("uid"),
            id("gid"),
            word(row, "flags").unwrap()
        )
    };
    let described = |row: &BTreeMap<String, Field>| {
        let mut above = Vec::new();
        let mut way = number(row, "way").unwrap();
        while way != 0 {
            let one = &ways[&way];
            above.push(class(number(one, "class").unwrap()));
            let outer = number(one, "above").unwrap();
            let depth = |way: i64| ways.get(&way).map_or(Some(0), |row| number(row, "depth"));
            assert_eq!(depth(way), depth(outer).map(|depth| depth + 1));
            way = outer;
        }
        above.reverse();
        let own = number(row, "class").map(class);
        let (directory, name) = (word(row, "directory").unwrap(), word(row, "name").unwrap());
        let (size, target) = (number(row, "size"), word(row, "target"));
        format!("{directory} {name} {:?} {own:?} {size:?} {target:?} {above:?}", word(row, "kind"))
    };
    rows(&part(folder, volume)).iter().map(described).collect()
}

/// A folder with what rows have to tell.
fn everything() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::create_dir_all(at("a/b/c")).unwrap();
    std::fs::write(at("a/b/c/deep"), "12345").unwrap();
    std::fs::write(at("a.txt"), "").unwrap();
    std::fs::write(at("a/run"), "#!/bin/sh\n").unwrap();
    std::os::unix::fs::symlink("b/c", at("a/link")).unwrap();
    std::fs::hard_link(at("a/b/c/deep"), at("again")).unwrap();
    std::fs::write(at("back\\slash"), "x").unwrap();
    let odd = std::ffi::OsStr::from_bytes(b"odd\xff");
    std::fs::create_dir(folder.path().join(odd)).unwrap();
    std::fs::write(folder.path().join(odd).join("in it"), "").unwrap();
    let set = |name: &str, mode| {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(at(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    set("a", 0o2750);
    set("a/run", 0o755);
    folder
}

#[test]
fn a_directory_that_is_read_and_its_tree_are_the_same_rows() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    let options = Options { sizes: true, ..Options::default() };
    let (written, holes) = record(&target(out.path(), "read"), folder.path(), &options, &|_| ()).unwrap();
    assert!(!holes.any());
    let gathered = live::gather(folder.path(), &options, &|_| ()).unwrap();
    let again = write_tree(&target(out.path(), "tree"), &gathered.tree).unwrap();
    assert_eq!((written.rows, written.classes, written.ways), (again.rows, again.classes, again.ways));
    let (read, tree) = (told(out.path(), "read"), told(out.path(), "tree"));
    assert_eq!(read, tree);
    assert_eq!(read.len(), 12, "{read:#?}");
    let has = |text: &str| assert!(read.iter().any(|row| row.starts_with(text)), "{text}: {read:#?}");
    has("/  Some(\"dir\")");
    has("/a/b/c deep Some(\"file\")");
    has("/ back\\x5cslash ");
    has("/odd\\xff  Some(\"dir\")");
    has("/odd\\xff in it Some(\"file\")");
    // Both names of one inode have its number.
    let numbers: BTreeSet<i64> =
        rows(&part(out.path(), "read")).iter().filter_map(|row| number(row, "inode")).collect();
    let named = rows(&part(out.path(), "read")).iter().filter(|row| number(row, "inode").is_some()).count();
    assert_eq!((numbers.len(), named), (1, 2));
}

#[test]
fn what_is_not_known_is_a_gap() {
    let out = tempfile::tempdir().unwrap();
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("made".into()));
    let unknown = |what: &str| Certainty::Unknown(Unknown::new(what, "look"));
    let file =
        tree.add(Tree::ROOT, b"file", Entry::new(FileKind::File, 7101, 7200, Mode::new(0o640))).unwrap();
    tree.doubt_owner_and_mode(file, unknown("the owner"), Certainty::Known);
    let folder = tree.add(Tree::ROOT, b"folder", Entry::directory(0, 0, 0o700)).unwrap();
    tree.doubt_contents(folder, unknown("what is in it"));
    write_tree(&target(out.path(), "v"), &tree).unwrap();
    let told = told(out.path(), "v");
    let rest = "[None, None, None, None, None, None]";
    let has = |text: &str| assert!(told.iter().any(|row| row.starts_with(text)), "{text}: {told:#?}");
    has(&format!("/ file Some(\"file\") Some(\"file ?:? 0640  {rest}\")"));
    has(
        "/folder  Some(\"dir\") Some(\"dir 0:0 0700  [None, None, None, None, Some(\\\"unlisted\\\"), None]\")",
    );
}

/// What is taken for granted is, also when it comes back, and is named.
#[test]
fn assumptions_come_back() {
    let out = tempfile::tempdir().unwrap();
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("made".into()));
    let granted = |text: &str| Certainty::Assumed(text.into());
    let folder = tree.add(Tree::ROOT, b"folder", Entry::directory(0, 0, 0o755)).unwrap();
    tree.doubt_owner_and_mode(folder, granted("it is root's"), granted("it is 0755"));
    tree.doubt_contents(folder, granted("nothing is hidden in it"));
    tree.add(folder, b"file", Entry::file(7101, 7200, 0o640)).unwrap();
    write_tree(&target(out.path(), "v"), &tree).unwrap();
    let name = "v".parse().unwrap();
    let read = self::tree(out.path(), &name, None).unwrap();
    assert_eq!(read.doubt(read.find(b"folder").unwrap()), tree.doubt(folder));
    let mut pairs = volume(out.path(), &name, None, Apart::default()).unwrap();
    pairs.settle();
    assert!(pairs.tree.ids().any(|id| pairs.tree.doubt(id) == tree.doubt(folder)));
}

#[test]
fn a_second_run_takes_the_place_of_the_first_and_others_stay() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    let write = |volume: &str| {
        record(&target(out.path(), volume), folder.path(), &Options::default(), &|_| ()).unwrap();
    };
    write("one");
    write("two");
    let before = std::fs::read(part(out.path(), "one")).unwrap();
    assert_eq!(before, std::fs::read(part(out.path(), "two")).unwrap());
    std::fs::write(folder.path().join("new"), "").unwrap();
    write("one");
    assert!(told(out.path(), "one").iter().any(|row| row.starts_with("/ new ")));
    assert_eq!(before, std::fs::read(part(out.path(), "two")).unwrap());
    // Nothing half-written is left.
    let mut pending = vec![out.path().to_path_buf()];
    while let Some(next) = pending.pop() {
        for entry in std::fs::read_dir(next).unwrap() {
            let entry = entry.unwrap();
            assert!(!entry.file_name().as_bytes().starts_with(b"."), "{entry:?}");
            pending.extend(entry.file_type().unwrap().is_dir().then(|| entry.path()));
        }
    }
}

#[test]
fn what_fails_leaves_the_old_rows_and_nothing_else() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    let all = target(out.path(), "v");
    record(&all, folder.path(), &Options::default(), &|_| ()).unwrap();
    let before = std::fs::read(part(out.path(), "v")).unwrap();
    let few = Options { most_entries: 3, ..Options::default() };
    let error = record(&all, folder.path(), &few, &|_| ()).unwrap_err();
    assert!(error.to_string().contains("more than 3 entries"), "{error}");
    assert!(record(&all, Path::new("/nowhere/at/all"), &few, &|_| ()).is_err());
    // Nor is there a day that has no rows.
    let other = Target { date: "2026-12-02".to_owned(), ..all.clone() };
    assert!(record(&other, folder.path(), &few, &|_| ()).is_err());
    assert_eq!(
        std::fs::read_dir(part(out.path(), "v").parent().unwrap().parent().unwrap()).unwrap().count(),
        1
    );
    assert_eq!(std::fs::read(part(out.path(), "v")).unwrap(), before);
    assert_eq!(std::fs::read_dir(part(out.path(), "v").parent().unwrap()).unwrap().count(), 1);
}

/// The tree of pairs has every class at the end of every way at which it occurs, as often as rows say.
#[test]
fn a_volume_reads_back_as_its_pairs() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    let options = Options::default();
    record(&target(out.path(), "v"), folder.path(), &options, &|_| ()).unwrap();
    let name = "v".parse().unwrap();
    assert_eq!(days(out.path(), &name).unwrap(), ["2026-12-01"]);
    let read = volume(out.path(), &name, None, Apart::default()).unwrap();
    assert_eq!(read.pairs.iter().map(|pair| pair.entries).sum::<u64>(), 12);
    let gathered = live::gather(folder.path(), &options, &|_| ()).unwrap();
    // What a name says, with what is said of the directories above it, the innermost first.
    let said = |tree: &Tree, id: InodeId| {
        let inode = tree.inode(id);
        let (owner, mode, marks) = (inode.stored_owner(), inode.stored_mode(), inode.marks.given());
        let rest = format!("{:?} {:?} {marks:?}", tree.extended(id), tree.content(id));
        format!("{} {}:{} {mode} {rest}", inode.kind.word(), owner.uid, owner.gid)
    };
    let every = |tree: &Tree| {
        let mut all = vec![(Tree::ROOT, vec![said(tree, Tree::ROOT)])];
        let mut next = 0;
        while let Some((directory, above)) = all.get(next).cloned() {
            next += 1;
            let below = |(_, id)| (id, [vec![said(tree, id)], above.clone()].concat());
            let more: Vec<_> = tree.children(directory).map(below).collect();
            all.extend(more);
        }
        all
    };
    let mut counted: BTreeMap<Vec<String>, u64> = BTreeMap::new();
    for (_, said) in every(&gathered.tree) {
        *counted.entry(said).or_default() += 1;
    }
    let of_pairs: BTreeMap<InodeId, Vec<String>> = every(&read.tree).into_iter().collect();
    let mut told: BTreeMap<Vec<String>, u64> = BTreeMap::new();
    for pair in &read.pairs {
        *told.entry(of_pairs[&pair.inode].clone()).or_default() += pair.entries;
    }
    assert_eq!(told, counted);
}

/// Every name, with its inode, is there again.
#[test]
fn a_volume_reads_back_whole() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    let options = Options { sizes: true, acls: false, ..Options::default() };
    record(&target(out.path(), "v"), folder.path(), &options, &|_| ()).unwrap();
    assert_eq!(volumes(out.path()).unwrap(), ["v".parse().unwrap()]);
    let read = tree(out.path(), &"v".parse().unwrap(), Some("2026-12-01")).unwrap();
    write_tree(&target(out.path(), "again"), &read).unwrap();
    assert_eq!(told(out.path(), "v"), told(out.path(), "again"));
    let gathered = live::gather(folder.path(), &options, &|_| ()).unwrap();
    assert_eq!(read.len(), gathered.tree.len());
    assert_eq!(read.unrecorded(), gathered.tree.unrecorded());
    assert!(read.unrecorded().acls.is_some());
    let error = tree(out.path(), &"v".parse().unwrap(), Some("2026-11-30")).unwrap_err().to_string();
    assert!(error.contains("there is no survey of volume v of 2026-11-30: there are 2026-12-01"), "{error}");
}

/// What is asked for by name has its own pairs, also behind links, and the rest has those that are left.
#[test]
fn regions_have_pairs_of_their_own() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    record(&target(out.path(), "v"), folder.path(), &Options::default(), &|_| ()).unwrap();
    let name = "v".parse().unwrap();
    let regions = [b"/a/link".to_vec(), b"/nowhere".to_vec(), b"/a/run".to_vec()];
    let read = volume(out.path(), &name, None, Apart { regions: &regions, complete: true }).unwrap();
    let paths: Vec<&str> = read.regions.paths().iter().map(|path| &**path).collect();
    assert_eq!(paths, ["/", "/a/b/c", "/a/link", "/a/run", "/nowhere"]);
    let of = |region: &str| {
        let at = paths.iter().position(|path| *path == region).unwrap();
        read.pairs.iter().filter(|pair| pair.region == at).map(|pair| pair.entries).sum::<u64>()
    };
    let counts = ["/", "/a/b/c", "/a/link", "/a/run", "/nowhere"].map(of);
    assert_eq!(counts, [8, 2, 1, 1, 0]);
    for path in ["/a/b/c", "/a/link", "/a/run"] {
        let inode = read.tree.find(path.as_bytes()).unwrap();
        assert!(read.pairs.iter().any(|pair| pair.inode == inode), "{path}");
    }
    assert_eq!(read.tree.find(b"/nowhere"), None);
    // Each row is in one pair, whatever is asked for.
    assert_eq!(read.pairs.iter().map(|pair| pair.entries).sum::<u64>(), 12);
    // Nothing else is looked up by its name, so that names that are not there are not there.
    let open = |read: &Tree, id| read.doubt(id).is_some_and(|doubt| doubt.contents != Certainty::Known);
    let doubts = |read: &Tree| read.ids().filter(|id| open(read, *id)).count();
    assert_eq!(doubts(&read.tree), 0);
    let mut unsettled = volume(out.path(), &name, None, Apart::default()).unwrap();
    assert!(doubts(&unsettled.tree) > 0);
    unsettled.settle();
    assert_eq!(doubts(&unsettled.tree), 0);
}

#[test]
fn damage_is_told_and_nothing_else_happens() {
    let (folder, out) = (everything(), tempfile::tempdir().unwrap());
    record(&target(out.path(), "v"), folder.path(), &Options::default(), &|_| ()).unwrap();
    let (name, file) = ("v".parse().unwrap(), part(out.path(), "v"));
    let whole = std::fs::read(&file).unwrap();
    let mut random = fastrand::Rng::with_seed(7);
    let mut refused = 0;
    for round in 0..400 {
        let mut bytes = whole.clone();
        match round % 3 {
            0 => bytes.truncate(random.usize(..bytes.len())),
            1 => bytes[random.usize(..whole.len())] ^= 1 << random.u32(..8),
            // The end of the file is what is read before its digest is known.
            _ => bytes[random.usize(whole.len() / 2..whole.len())] = random.u8(..),
        }
        std::fs::write(&file, &bytes).unwrap();
        let outcome = tree(out.path(), &name, None).map(drop);
        let pairs = volume(out.path(), &name, None, Apart::default()).map(drop);
        refused += usize::from(outcome.is_err()) + usize::from(pairs.is_err());
    }
    assert!(refused > 300, "{refused}");
    std::fs::write(&file, &whole).unwrap();
    std::fs::remove_dir_all(out.path().join("ways")).unwrap();
    let error = volume(out.path(), &name, None, Apart::default()).unwrap_err();
    assert!(error.to_string().contains("ways"), "{error}");
}
