//! Everything one actor sees, built for real.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_model::ids::{DiskGid, DiskUid, KernelOwner, MountIds};
use mivask_model::mount::{Mount, MountId, MountTable, Source, SourceId};
use mivask_model::personality::Personality;
use mivask_model::tree::{InodeId, Tree};
use mivask_stage::stage::Stage;
use rustix::mount::{MountFlags as RawFlags, UnmountFlags};

use crate::ground::{self, Choice, Filesystem, Ground, Grounds};
use crate::report::Node;
use crate::shown::Shown;
use crate::store::{self, Part};
use crate::{Doing, KernelError, layers, mounts, namespace, tool};

/// A built world; [`World::take_down`] removes it.
pub(crate) struct World {
    folder: PathBuf,
    stores: BTreeMap<SourceId, Store>,
}

/// One source as it is on a real file system.
struct Store {
    /// Where it shows, without any id map.
    root: PathBuf,
    paths: BTreeMap<InodeId, PathBuf>,
    /// Folders on a lasting file system, to be removed afterwards.
    lasting: Vec<PathBuf>,
    tree: Arc<Tree>,
    /// On an overlay, which takes no id map itself: the map its layers were mounted with.
    layered: Option<MountIds>,
}

impl World {
    /// Builds the mounts of `table` below a tmpfs of its own in `scratch`.
    pub(crate) fn build(
        stage: &Stage,
        table: &MountTable,
        scratch: &Path,
        grounds: &mut Grounds,
        choice: Choice,
    ) -> Result<Self, KernelError> {
        let folder = scratch.join("world");
        fs::create_dir_all(&folder).doing(|| "making the world's folder".to_owned())?;
        // One unmount of this takes down everything that is built in it.
        namespace::tmpfs(&folder, c"mode=755")?;
        let mut world = Self { folder, stores: BTreeMap::new() };
        match world.fill(stage, table, grounds, choice) {
            Ok(()) => Ok(world),
            Err(error) => {
                world.take_down()?;
                Err(error)
            }
        }
    }

    fn fill(
        &mut self,
        stage: &Stage,
        table: &MountTable,
        grounds: &mut Grounds,
        choice: Choice,
    ) -> Result<(), KernelError> {
        let root = self.root();
        fs::create_dir(&root).doing(|| "making the root".to_owned())?;
        let mut attached: Vec<PathBuf> = Vec::new();
        for (_, mount) in table.iter() {
            let id = mount.variants[0].source;
            if !self.stores.contains_key(&id) {
                self.store(id, stage.source(id), &mount.facts.ids, grounds, choice)?;
            }
            if self.lacks_device(table, mount) {
                attached.push(PathBuf::new());
                continue;
            }
            let lost = || KernelError::Unsupported("a mount of nobody knows what".to_owned());
            let at = match mount.on {
                None => root.clone(),
                Some((below, inode)) => self.below(table, below, inode, &attached).ok_or_else(lost)?,
            };
            let (store, shown) = self.stores.get(&id).zip(mount.root).ok_or_else(lost)?;
            // An overlay applies id maps to its layers when it is mounted; mapped again, ids would go through both.
            let ids = match &store.layered {
                None => mount.facts.ids.clone(),
                Some(layered) if *layered == mount.facts.ids => MountIds::default(),
                Some(_) => {
                    let text = "one overlay is mounted with two id maps".to_owned();
                    return Err(KernelError::Unsupported(text));
                }
            };
            mounts::attach(store.paths.get(&shown).ok_or_else(lost)?, &ids, mount.flags, &at)?;
            attached.push(at);
        }
        // A superblock becomes read-only last: mount points and files have to be made on it first.
        for (id, store) in &self.stores {
            let source = stage.source(*id);
            if source.facts.read_only && !source.facts.personality.is_read_only() {
                make_read_only(&store.root)
                    .doing(|| format!("making the superblock of {} read-only", source.facts.name))?;
            }
        }
        Ok(())
    }

    /// Whether a mount shows or covers a device that nobody could make here: acts that come near it are not tried.
    fn lacks_device(&self, table: &MountTable, mount: &Mount) -> bool {
        let missing = |source: &SourceId, inode: InodeId| {
            let made = |store: &Store| store.paths.contains_key(&inode);
            self.stores
                .get(source)
                .is_some_and(|store| !made(store) && store.tree.inode(inode).kind.is_device())
        };
        let shows = mount.root.is_some_and(|root| missing(&mount.variants[0].source, root));
        let covers = |(below, inode)| missing(&table.get(below).variants[0].source, inode);
        shows || mount.on.is_some_and(covers)
    }

    /// Where `inode` shows below the attached mount `below`: its literal path, since links on the way are the
    /// container's and mean something else out here.
    fn below(
        &self,
        table: &MountTable,
        below: MountId,
        inode: InodeId,
        attached: &[PathBuf],
    ) -> Option<PathBuf> {
        let mount = table.get(below);
        let store = self.stores.get(&mount.variants[0].source)?;
        let from = store.paths.get(&mount.root?)?;
        let to = store.paths.get(&inode)?;
        let index = table.iter().position(|(id, _)| id == below)?;
        let relative = to.strip_prefix(from).ok()?;
        let base = attached.get(index)?;
        // A trailing slash would turn a file into something that cannot be mounted on.
        Some(if relative.as_os_str().is_empty() { base.clone() } else { base.join(relative) })
    }

    /// The actor's root directory.
    pub(crate) fn root(&self) -> PathBuf {
        self.folder.join("root")
    }

    fn store(
        &mut self,
        id: SourceId,
        source: &Source,
        ids: &MountIds,
        grounds: &mut Grounds,
        choice: Choice,
    ) -> Result<(), KernelError> {
        let root = self.folder.join(format!("store-{}", self.stores.len()));
        fs::create_dir(&root).doing(|| "making a store".to_owned())?;
        let store = match &source.facts.personality {
            // What the kernel makes itself has a stand-in with the same mount points; acts that come near it are not tried.
            Personality::Native(_) | Personality::Tmpfs(_) | Personality::Kernel(_) => {
                plain(source, root, grounds, choice)?
            }
            Personality::Overlay => overlay(source, ids, root, grounds, choice)?,
            Personality::Image => image(source, root)?,
            // An empty stand-in; acts that come near it are not tried.
            Personality::Fat(_)
            | Personality::Ntfs(_)
            | Personality::Cifs(_)
            | Personality::Nfs(_)
            | Personality::Fuse(_)
            | Personality::Remote(_) => {
                namespace::tmpfs(&root, c"mode=755")?;
                let paths = BTreeMap::from([(Tree::ROOT, root.clone())]);
                Store { root, paths, lasting: Vec::new(), tree: source.tree.clone(), layered: None }
            }
        };
        self.stores.insert(id, store);
        Ok(())
    }

    /// Owner and group as stored of an inode that an act left.
    pub(crate) fn stored_owner(&self, node: Node) -> Option<(DiskUid, DiskGid)> {
        self.stores.values().find_map(|store| {
            let device = fs::symlink_metadata(&store.root).ok()?.dev();
            if device != node.device {
                return None;
            }
            let shown = find(&store.root, node.inode)?;
            match &store.layered {
                None => Some((shown.unmapped().uid, shown.unmapped().gid)),
                Some(ids) => Some((ids.to_disk_uid(shown.uid)?, ids.to_disk_gid(shown.gid)?)),
            }
        })
    }

    /// Everything that is on its file systems, whatever is mounted over it.
    pub(crate) fn shown(&self) -> Vec<Shown> {
        let mut all = Vec::new();
        for (source, store) in &self.stores {
            let mut pending = vec![PathBuf::new()];
            while let Some(path) = pending.pop() {
                let full = store.root.join(&path);
                let Ok(facts) = fs::symlink_metadata(&full) else { continue };
                if facts.is_dir() {
                    let entries = fs::read_dir(&full).into_iter().flatten().flatten();
                    pending.extend(entries.map(|entry| path.join(entry.file_name())));
                }
                all.push(Shown::new(*source, path, &full, &facts, store.layered.as_ref()));
            }
        }
        all
    }

    /// Detaches everything, and removes what is on lasting file systems.
    pub(crate) fn take_down(self) -> Result<(), KernelError> {
        // A child that was killed may keep something open for a moment, which makes a plain unmount busy.
        rustix::mount::unmount(&self.folder, UnmountFlags::DETACH)
            .doing(|| "detaching the world".to_owned())?;
        for store in self.stores.values() {
            for folder in &store.lasting {
                store::remove(folder, &store.tree)?;
            }
        }
        Ok(())
    }
}

/// Why no kernel can be asked about what is on `source`; `None` where it can be built.
#[must_use]
pub fn cannot_build(source: &Source) -> Option<String> {
    let kind = source.facts.filesystem.as_deref().unwrap_or("a file system of its own");
    let built = match &source.facts.personality {
        Personality::Native(_) | Personality::Tmpfs(_) | Personality::Overlay | Personality::Image => true,
        Personality::Fat(_)
        | Personality::Ntfs(_)
        | Personality::Cifs(_)
        | Personality::Nfs(_)
        | Personality::Fuse(_)
        | Personality::Kernel(_)
        | Personality::Remote(_) => false,
    };
    (!built).then(|| format!("{} is on {kind}, which is not built here", source.facts.name))
}

/// Owner and group of the inode of that number, as they show here: the harness is in the initial user namespace.
fn find(folder: &Path, inode: u64) -> Option<KernelOwner> {
    let here = fs::symlink_metadata(folder).ok()?;
    if here.ino() == inode {
        return Some(KernelOwner::new(here.uid(), here.gid()));
    }
    if !here.is_dir() {
        return None;
    }
    fs::read_dir(folder).ok()?.flatten().find_map(|entry| find(&entry.path(), inode))
}

/// A fresh folder on `ground`, bound at `root` where it lasts longer than the world.
fn folder_on(ground: Ground, root: &Path, grounds: &mut Grounds) -> Result<Vec<PathBuf>, KernelError> {
    if ground.filesystem == Filesystem::Tmpfs {
        namespace::tmpfs(root, c"mode=755")?;
        return Ok(Vec::new());
    }
    let name = root.file_name().unwrap_or_default();
    let folder = grounds.folder(ground)?.join(name);
    fs::create_dir(&folder).doing(|| format!("making {}", folder.display()))?;
    rustix::mount::mount_bind(&folder, root).doing(|| format!("binding {}", root.display()))?;
    Ok(vec![folder])
}

fn plain(
    source: &Source,
    root: PathBuf,
    grounds: &mut Grounds,
    choice: Choice,
) -> Result<Store, KernelError> {
    let lasting = folder_on(Ground::of(source, choice), &root, grounds)?;
    let _building = namespace::nobody_forks();
    let paths = store::fill(&source.tree, &root, Part::All)?;
    Ok(Store { root, paths, lasting, tree: source.tree.clone(), layered: None })
}

/// Layers on one file system, mounted as an overlay; its ids are mapped in the layers, where `ids` says so.
fn overlay(
    source: &Source,
    ids: &MountIds,
    root: PathBuf,
    grounds: &mut Grounds,
    choice: Choice,
) -> Result<Store, KernelError> {
    let folder = root.with_extension("layers");
    fs::create_dir(&folder).doing(|| "making the layers' folder".to_owned())?;
    let lasting = folder_on(Ground::of(source, choice), &folder, grounds)?;
    let paths = layers::build(&source.tree, &folder, &root, ids)?;
    let layered = Some(ids.clone());
    Ok(Store { root, paths, lasting, tree: source.tree.clone(), layered })
}

/// A folder packed into a read-only image.
fn image(source: &Source, root: PathBuf) -> Result<Store, KernelError> {
    let kind = source.facts.filesystem.as_deref().unwrap_or("erofs");
    let folder = root.with_extension("folder");
    let packed = root.with_extension("img");
    fs::create_dir(&folder).doing(|| "making a folder to pack".to_owned())?;
    {
        let _building = namespace::nobody_forks();
        store::fill(&source.tree, &folder, Part::All)?;
    }
    match kind {
        "squashfs" => {
            let arguments = ["-noappend", "-quiet", "-no-progress", "-noI", "-noD", "-noF", "-noX"];
            tool::run(tool::command("mksquashfs")?.args([&folder, &packed]).args(arguments))?;
        }
        "erofs" => tool::run(tool::command("mkfs.erofs")?.args(["--quiet"]).args([&packed, &folder]))?,
        other => return Err(KernelError::Unsupported(format!("{} is on {other}", source.facts.name))),
    }
    ground::mount_image(&packed, &root, kind, "loop,ro")?;
    let paths = paths_below(&source.tree, &root);
    Ok(Store { root, paths, lasting: Vec::new(), tree: source.tree.clone(), layered: None })
}

/// The first path of each inode of `tree`, shown at `root`.
fn paths_below(tree: &Tree, root: &Path) -> BTreeMap<InodeId, PathBuf> {
    let mut paths = BTreeMap::from([(Tree::ROOT, root.to_path_buf())]);
    let mut open = vec![Tree::ROOT];
    while let Some(dir) = open.pop() {
        for (name, id) in tree.children(dir) {
            use std::os::unix::ffi::OsStrExt;
            let path = paths[&dir].join(std::ffi::OsStr::from_bytes(name));
            if let std::collections::btree_map::Entry::Vacant(free) = paths.entry(id) {
                free.insert(path);
                open.push(id);
            }
        }
    }
    paths
}

/// Makes a superblock read-only. The kernel lets go of a file that was written a moment after it was closed
/// (`delayed_fput`), and until then says that it is busy.
fn make_read_only(root: &Path) -> rustix::io::Result<()> {
    // A file that was just closed keeps its superblock busy until its last reference is put.
    const TRIES: u32 = 100;
    for _ in 0..TRIES {
        match rustix::mount::mount_remount(root, RawFlags::RDONLY, "") {
            Err(rustix::io::Errno::BUSY) => std::thread::sleep(std::time::Duration::from_millis(5)),
            done => return done,
        }
    }
    rustix::mount::mount_remount(root, RawFlags::RDONLY, "")
}
