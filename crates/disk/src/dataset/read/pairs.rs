//! The small tree of a volume's pairs.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::tree::{Certainty, Content, Doubt, Entry, InodeId, Tree, TreeError};
use parquet::errors::ParquetError;
use rustc_hash::FxHashMap;

use super::Day;
use super::fields::Tables;
use super::names::{Names, path, text};
use crate::dataset::regions::{Regions, elsewhere};
use crate::dataset::text::bytes;
use crate::dataset::{Apart, Pair, Volume, ways};
use crate::error::DiskError;

/// How often regions grow by what links lead to.
const MOST_LINKS: usize = 40;

/// A region, a way and a class that occur together.
type Key = (usize, i64, i64);

/// How often each of them does, in order.
type Counted = BTreeMap<Key, u64>;

/// A row on the way to a region, or a region itself.
struct Named {
    way: i64,
    class: i64,
    target: Option<Vec<u8>>,
}

/// What is read of the rows.
struct Seen {
    counted: Counted,
    /// By path.
    named: BTreeMap<String, Named>,
}

/// Reads a volume's pairs.
pub(super) fn read(tables: &Tables, day: &Day, apart: Apart<'_>) -> Result<Volume, DiskError> {
    let mut regions = Regions::new(apart.regions);
    let names = Names::open(&day.path).map_err(|error| day.failed(error))?;
    let mut seen = seen(&names, &regions).map_err(|error| day.failed(error))?;
    let mut links = 0;
    while links < MOST_LINKS && followed(&mut regions, &seen.named) {
        seen = self::seen(&names, &regions).map_err(|error| day.failed(error))?;
        links += 1;
    }
    // Where a link from the root leads is for each actor to see.
    let absolute = |one: &Named| one.target.as_deref().is_some_and(|target| target.starts_with(b"/"));
    let complete = apart.complete && links < MOST_LINKS && !seen.named.values().any(absolute);
    let mut building = Building::new(tables, (day, complete), &regions);
    building.root(&seen.counted)?;
    building.named(&seen.named)?;
    building.pairs(&seen.counted)?;
    building.fill()?;
    let Building { mut tree, mut pairs, classes, assumed, .. } = building;
    pairs.sort_unstable_by_key(|pair| pair.inode);
    tree.set_unrecorded(super::whole::unrecorded(&names));
    let interpreters = pairs.iter().filter_map(|pair| match tree.content(pair.inode) {
        Content::Script(interpreter) => Some(interpreter.to_vec()),
        Content::Unknown | Content::Program | Content::Data | Content::Empty => None,
    });
    let interpreters = interpreters.collect();
    Ok(Volume {
        tree: Arc::new(tree),
        pairs,
        classes,
        assumed,
        interpreters,
        regions,
        date: day.date.clone(),
    })
}

/// Adds where links on the way to regions lead to; `false` where that is known.
fn followed(regions: &mut Regions, named: &BTreeMap<String, Named>) -> bool {
    let mut more = Vec::new();
    for (at, one) in named {
        let target = one.target.as_deref().filter(|target| !target.starts_with(b"/"));
        let Some(target) = target else { continue };
        let target = crate::dataset::text::text(target);
        let around = at.rsplit_once('/').map_or("", |(around, _)| around);
        for region in regions.paths() {
            let Some(rest) =
                region.strip_prefix(at.as_str()).filter(|rest| rest.is_empty() || rest.starts_with('/'))
            else {
                continue;
            };
            more.push(plain(&format!("{around}/{target}{rest}")));
        }
    }
    let known = regions.paths().len();
    more.into_iter().for_each(|path| regions.add(path));
    regions.paths().len() > known
}

/// A path without `.`, `..` and doubled slashes.
fn plain(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            name => parts.push(name),
        }
    }
    format!("/{}", parts.join("/"))
}

/// Reads the columns that are needed and nothing else.
fn seen(names: &Names, regions: &Regions) -> Result<Seen, ParquetError> {
    let (mut counted, mut by_path) = (FxHashMap::default(), BTreeMap::new());
    let one = regions.paths().len() == 1;
    for group in names.groups() {
        let group = group?;
        let (ways, classes) = (group.numbers("way")?, group.numbers("class")?);
        if one {
            count(&mut counted, ways.into_iter().zip(classes).map(|(way, class)| (0, way, class)));
            continue;
        }
        let (directories, entries) = (group.texts("directory")?, group.texts("name")?);
        let targets = group.some_texts("target")?;
        // The last directory, its region, and whether rows of it may be regions or on the way to one.
        let mut last = (String::new(), 0, false);
        let mut keys = Vec::with_capacity(group.rows);
        for at in 0..group.rows {
            let (directory, name) = (text(&directories[at])?, text(&entries[at])?);
            if last.0 != directory {
                last = (directory.to_owned(), regions.of(directory), regions.passes(directory));
            }
            let mut region = last.1;
            if last.2 {
                let path = path(directory, name);
                region = regions.of(&path);
                if regions.passes(&path) {
                    let target = targets[at].as_ref().map(text).transpose()?.map(bytes);
                    by_path.insert(path, Named { way: ways[at], class: classes[at], target });
                }
            }
            keys.push((region, ways[at], classes[at]));
        }
        count(&mut counted, keys.into_iter());
    }
    Ok(Seen { counted: counted.into_iter().collect(), named: by_path })
}

/// Counts keys, of which most are like the one before.
fn count(counted: &mut FxHashMap<Key, u64>, keys: impl Iterator<Item = Key>) {
    let mut last: Option<(Key, u64)> = None;
    for key in keys {
        match &mut last {
            Some((known, count)) if *known == key => *count += 1,
            _ => {
                if let Some((key, count)) = last.replace((key, 1)) {
                    *counted.entry(key).or_insert(0) += count;
                }
            }
        }
    }
    if let Some((key, count)) = last {
        *counted.entry(key).or_insert(0) += count;
    }
}

/// A tree of pairs that is being made.
struct Building<'a> {
    tree: Tree,
    pairs: Vec<Pair>,
    /// The class of each inode.
    classes: Vec<i64>,
    tables: &'a Tables,
    regions: &'a Regions,
    /// The root of each region that there is, with its way and class.
    roots: BTreeMap<usize, (InodeId, i64, i64)>,
    /// The directory at the end of each way in a region.
    ends: BTreeMap<(usize, i64), InodeId>,
    day: &'a Day,
    /// Directories with something in them.
    holding: Vec<InodeId>,
    /// Directories of which it is taken for granted what is in them.
    assumed: Vec<(InodeId, Certainty)>,
    /// Why nobody knows what a name is that is none of a region; `None` where nobody asks for one.
    elsewhere: Option<Unknown>,
}

impl<'a> Building<'a> {
    fn new(tables: &'a Tables, (day, complete): (&'a Day, bool), regions: &'a Regions) -> Self {
        let origin = Provenance::Source(Arc::from(day.path.display().to_string().as_str()));
        Self {
            tree: Tree::new(Entry::directory(0, 0, 0o755), origin),
            pairs: Vec::new(),
            classes: Vec::new(),
            tables,
            regions,
            roots: BTreeMap::new(),
            ends: BTreeMap::new(),
            holding: Vec::new(),
            assumed: Vec::new(),
            day,
            elsewhere: (!complete).then(elsewhere),
        }
    }

    /// The root: the only entry above which nothing is.
    fn root(&mut self, counted: &Counted) -> Result<(), DiskError> {
        let mut roots = counted.keys().filter(|(_, way, _)| *way == 0);
        let (Some((_, _, class)), None) = (roots.next(), roots.next()) else {
            return Err(self.day.damaged("its rows have no root, or several"));
        };
        let (mut entry, holds) = self.entry(*class)?;
        let assumed = self.open(&mut entry, holds);
        self.assumed.extend(assumed.map(|contents| (Tree::ROOT, contents)));
        let origin = self.tree.place(Tree::ROOT);
        self.tree = Tree::new(entry, origin);
        self.classes.push(*class);
        self.holding.extend(holds.then_some(Tree::ROOT));
        self.begins(0, Tree::ROOT, (0, *class));
        Ok(())
    }

    /// The regions that there are, by their names, and the directories above them.
    fn named(&mut self, named: &BTreeMap<String, Named>) -> Result<(), DiskError> {
        // What is above comes first: its path is shorter and begins alike.
        for (path, one) in named.iter().filter(|(path, _)| *path != "/") {
            let above = path.rsplit_once('/').map_or("", |(above, _)| above);
            let Some(above) = self.tree.find(bytes(above).as_slice()) else { continue };
            let name = bytes(path.rsplit_once('/').map_or("", |(_, name)| name));
            let inode = self.added(above, &name, (one.class, one.target.as_deref()))?;
            if let Some(region) = self.regions.paths().iter().position(|region| **region == **path) {
                self.begins(region, inode, (one.way, one.class));
            }
        }
        Ok(())
    }

    /// A region begins at this inode.
    fn begins(&mut self, region: usize, inode: InodeId, (way, class): (i64, i64)) {
        self.roots.insert(region, (inode, way, class));
        if let Some(through) = self.through(way, class) {
            self.ends.insert((region, through), inode);
        }
    }

    /// Everything.
    fn pairs(&mut self, counted: &Counted) -> Result<(), DiskError> {
        for ((region, way, class), entries) in counted {
            let inode = self.pair(*region, (*way, *class))?;
            let (region, way, class, entries) = (*region, *way, *class, *entries);
            self.pairs.push(Pair { inode, region, way, class, entries });
        }
        Ok(())
    }

    fn pair(&mut self, region: usize, (way, class): (i64, i64)) -> Result<InodeId, DiskError> {
        if let Some((root, _, _)) = self.roots.get(&region).filter(|root| (root.1, root.2) == (way, class)) {
            return Ok(*root);
        }
        let end = self.end(region, way)?;
        // A directory that others are in stands for itself.
        match self.through(way, class) {
            Some(through) => self.end(region, through),
            None => self.added(end, format!("class {class:016x}").as_bytes(), (class, None)),
        }
    }

    /// The way through a directory of this class at the end of `way`.
    fn through(&self, way: i64, class: i64) -> Option<i64> {
        let id = ways::id(way, class);
        self.tables.ways.get(&id).filter(|step| (step.above, step.class) == (way, class)).map(|_| id)
    }

    /// The directory at the end of a way in a region, made with those above it.
    fn end(&mut self, region: usize, way: i64) -> Result<InodeId, DiskError> {
        let mut missing = Vec::new();
        let mut next = way;
        let mut here = loop {
            if let Some(known) = self.ends.get(&(region, next)) {
                break *known;
            }
            let damaged = |what| self.day.damaged(what);
            let step =
                self.tables.ways.get(&next).ok_or_else(|| damaged("a way of its rows is in no table"))?;
            missing.push((next, step.class));
            if step.above == 0 || missing.len() == 1 << 16 {
                return Err(damaged("a way does not begin at the root"));
            }
            next = step.above;
        };
        for (way, class) in missing.into_iter().rev() {
            here = self.added(here, format!("way {way:016x}").as_bytes(), (class, None))?;
            self.ends.insert((region, way), here);
        }
        Ok(here)
    }

    /// Directories that hold something hold it here, too, or they could be removed.
    fn fill(&mut self) -> Result<(), DiskError> {
        for id in std::mem::take(&mut self.holding) {
            if self.tree.children(id).next().is_none() {
                let added = self.tree.add(id, b"what is in another region", Entry::file(0, 0, 0));
                added.map_err(|error| self.day.damaged(&error.to_string()))?;
                self.classes.push(0);
            }
        }
        Ok(())
    }

    /// Adds an entry of a class; of a link what it points to is said, if it matters.
    fn added(
        &mut self,
        directory: InodeId,
        name: &[u8],
        (class, target): (i64, Option<&[u8]>),
    ) -> Result<InodeId, DiskError> {
        let (mut entry, holds) = self.entry(class)?;
        let assumed = self.open(&mut entry, holds);
        entry.target = target.unwrap_or_default().into();
        let added = self.tree.add(directory, name, entry);
        let inode = added.map_err(|error: TreeError| self.day.damaged(&error.to_string()))?;
        self.holding.extend(holds.then_some(inode));
        self.assumed.extend(assumed.map(|contents| (inode, contents)));
        self.classes.push(class);
        Ok(inode)
    }

    /// Nobody knows here what a name is in a directory that holds something; gives what is taken for granted of its names otherwise.
    fn open(&self, entry: &mut Entry, holds: bool) -> Option<Certainty> {
        let elsewhere = self.elsewhere.clone().filter(|_| holds)?;
        let doubt = entry.doubt.get_or_insert_with(Doubt::default);
        let before = std::mem::replace(&mut doubt.contents, Certainty::Unknown(elsewhere));
        (before != Certainty::Known).then_some(before)
    }

    /// An entry of a class, and whether it is a directory with something in it.
    fn entry(&self, class: i64) -> Result<(Entry, bool), DiskError> {
        let damaged = |what| self.day.damaged(what);
        let told =
            self.tables.classes.get(&class).ok_or_else(|| damaged("a class of its rows is in no table"))?;
        let entry = told.entry.clone().ok_or_else(|| damaged("a class cannot be read"))?;
        Ok((entry, told.holds))
    }
}
