//! OCI runtime configurations: `config.json` and the bundle around it (OCI runtime specification).

mod id_map;
mod types;

use std::path::Path;
use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::caps::{Capability, CapabilitySet};
use mivask_core::fact::Fact;
use mivask_core::identity::{Knowledge, PodSecurity, ProcessIdentity};
use mivask_core::ids::{MountIds, UserNamespace};
use mivask_core::mode::Mode;
use mivask_core::mount::MountFlags;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{
    Below, Container, EngineOptions, LabelAsked, ProfileAsked, Program, Scene, Shield, ShieldKind,
    TmpfsAsked, Volume, VolumeKind, VolumeMount, Who, Workload,
};
use mivask_core::stage::Role;

use self::id_map::map;
use self::types::{Config, Linux, Mount, Process};
use crate::accounts;
use crate::diagnostic::{Diagnostics, Severity};
use crate::fields::{self, OCI};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::tmpfs::{Told, take};
use crate::yaml::Node;

/// Whether a document is a runtime configuration.
#[must_use]
pub fn is_config(node: &Node) -> bool {
    node.get("ociVersion").is_some()
}

/// Adds the container of a configuration; relative paths begin at the bundle's folder.
///
/// `None` where it cannot be used; `diagnostics` says why.
pub fn add(
    node: &Node,
    source: &SourceText,
    (files, folder): (&dyn FileReader, &Path),
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) -> Option<()> {
    let spec: Config = fields::read(&OCI, "Spec", (node, source), |_, _| None, diagnostics)?;
    let mut reading = Reading { node, source, diagnostics, folder, files };
    let Some(process) = &spec.process else {
        reading.error("ociVersion", "the configuration has no `process`: nothing runs");
        return None;
    };
    let namespace = reading.namespace(&spec);
    let maps = namespace.as_ref().map(|namespace| namespace.value.clone());
    let who = reading.identity(process, namespace);
    let mut volumes = Vec::new();
    let listed = spec.mounts.iter().enumerate();
    let mounts = listed
        .filter_map(|(index, mount)| reading.mount(index, (mount, maps.as_deref()), &mut volumes))
        .collect();
    let root = spec.root.as_ref();
    let path = root.map(|root| root.path.clone()).unwrap_or_default();
    reading.accounts(&path, scene);
    let linux = spec.linux.as_ref();
    let shielded =
        linux.is_some_and(|linux| !(linux.masked_paths.is_empty() && linux.readonly_paths.is_empty()));
    let name = spec.hostname.clone().filter(|name| !name.is_empty()).unwrap_or_else(|| "process".to_owned());
    let cwd = process.cwd.clone();
    let container = Container {
        role: Role::App,
        image: Some(reading.fact("root.path", path)),
        who: Who::Process(Box::new(who)),
        read_only_root: root.is_some_and(|root| root.readonly),
        unmasked: !shielded,
        terminal: process.terminal,
        mounts,
        working_directory: Some(reading.fact("process.cwd", cwd.into_bytes())),
        program: reading.program(process),
        shields: reading.shields(linux),
        label: reading.label(process, linux),
        apparmor: reading.apparmor(process),
        ..Container::new(&name, reading.place("process"))
    };
    let workload = Workload {
        name,
        kind: "bundle".to_owned(),
        flavour: Flavour::Bundle,
        namespace: String::new(),
        own_users: None,
        security: PodSecurity::default(),
        volumes,
        containers: vec![container],
        service_account_token: None,
        from: reading.place("ociVersion"),
    };
    scene.workloads.push(Arc::new(workload));
    Some(())
}

struct Reading<'a> {
    node: &'a Node,
    source: &'a SourceText,
    diagnostics: &'a mut Diagnostics,
    folder: &'a Path,
    files: &'a dyn FileReader,
}

impl Reading<'_> {
    /// `process.selinuxLabel` and `linux.mountLabel`.
    fn label(&self, process: &Process, linux: Option<&Linux>) -> LabelAsked {
        let given = |path: &str, label: Option<&String>| {
            label.filter(|label| !label.is_empty()).map(|label| self.fact(path, label.clone()))
        };
        let whole = given("process.selinuxLabel", process.selinux_label.as_ref());
        let words = whole.as_ref().map(|label| {
            Fact::new(format!("SELinux with the label {}", label.value.escape_debug()), label.from.clone())
        });
        let files = given("linux.mountLabel", linux.and_then(|linux| linux.mount_label.as_ref()));
        LabelAsked { whole, files, words, ..LabelAsked::default() }
    }

    /// `process.apparmorProfile`.
    fn apparmor(&self, process: &Process) -> ProfileAsked {
        let named = process.apparmor_profile.clone();
        named.map(|name| ProfileAsked::named(self.fact("process.apparmorProfile", name))).unwrap_or_default()
    }

    fn program(&self, process: &Process) -> Program {
        let search = process.env.iter().find_map(|one| one.strip_prefix("PATH="));
        Program {
            entrypoint: Some(self.fact("process.args", Program::first(&process.args))),
            command: None,
            search: search.map(|path| self.fact("process.env", path.as_bytes().to_vec())),
        }
    }

    fn at(&self, path: &str) -> &Node {
        self.node.find(path).unwrap_or(self.node)
    }

    fn place(&self, path: &str) -> mivask_core::fact::Provenance {
        self.source.place(&self.at(path).span, path)
    }

    fn fact<T>(&self, path: &str, value: T) -> Fact<T> {
        Fact::new(value, self.place(path))
    }

    fn error(&mut self, path: &str, message: &str) {
        let span = self.at(path).span.clone();
        self.diagnostics.add(Severity::Error, self.source, &span, message, None);
    }

    /// Who the process is.
    fn identity(
        &mut self,
        process: &Process,
        namespace: Option<Fact<Arc<UserNamespace>>>,
    ) -> ProcessIdentity {
        let sets = &process.capabilities;
        let bounding = self.capabilities("bounding", &sets.bounding);
        let permitted = self.capabilities("permitted", &sets.permitted);
        let inheritable = self.capabilities("inheritable", &sets.inheritable);
        let ambient = self.capabilities("ambient", &sets.ambient);
        let effective = self.capabilities("effective", &sets.effective);
        let user = &process.user;
        let list = self.at("process.user.additionalGids");
        let groups = user.additional_gids.iter().enumerate().map(|(index, gid)| {
            let span = &list.item(index).unwrap_or(list).span;
            Fact::new(*gid, self.source.place(span, "process.user.additionalGids"))
        });
        ProcessIdentity {
            uid: self.fact("process.user.uid", user.uid),
            gid: self.fact("process.user.gid", user.gid),
            groups: groups.collect(),
            umask: user.umask.map(|bits| self.fact("process.user.umask", Mode::new((bits & 0o777) as u16))),
            no_new_privileges: process
                .no_new_privileges
                .map(|given| self.fact("process.noNewPrivileges", given)),
            bounding,
            effective,
            permitted,
            inheritable,
            ambient,
            user_namespace: namespace,
        }
    }

    /// The capabilities of one set; names that nobody knows are left out, as both runtimes do with a warning.
    fn capabilities(&mut self, set: &str, names: &[String]) -> CapabilitySet {
        let mut all = CapabilitySet::EMPTY;
        for (index, name) in names.iter().enumerate() {
            // A name without the prefix is none here.
            let known = name.get(..4).filter(|prefix| prefix.eq_ignore_ascii_case("CAP_"));
            let Some(capability) = known.and_then(|_| Capability::by_name(name)) else {
                let list = self.at("process.capabilities").get(set).unwrap_or(self.node);
                let span = list.item(index).unwrap_or(list).span.clone();
                let message =
                    format!("`{}` is not a capability: runc and crun leave it out", name.escape_debug());
                self.diagnostics.add(Severity::Warning, self.source, &span, message, None);
                continue;
            };
            all = all.with(capability);
        }
        all
    }

    /// The maps, where there is a user namespace to map into.
    fn namespace(&mut self, spec: &Config) -> Option<Fact<Arc<UserNamespace>>> {
        let linux = spec.linux.as_ref()?;
        let own = linux.namespaces.iter().any(|one| one.type_ == "user");
        if !own {
            return None;
        }
        let uids = map(&linux.uid_mappings);
        let gids = map(&linux.gid_mappings);
        let namespace = UserNamespace { uids: uids.unwrap_or_default(), gids: gids.unwrap_or_default() };
        Some(self.fact("linux.uidMappings", Arc::new(namespace)))
    }

    fn mount(
        &mut self,
        index: usize,
        (mount, namespace): (&Mount, Option<&UserNamespace>),
        volumes: &mut Vec<Volume>,
    ) -> Option<VolumeMount> {
        let item = self.at("mounts").item(index).unwrap_or(self.node);
        let place = self.source.place(&item.span, "mounts");
        let target = mount.destination.clone();
        // A relative destination is taken from the root, as runc does with a warning.
        let target = if target.starts_with('/') { target } else { format!("/{target}") };
        let options = &mount.options;
        let has = |word: &str| options.iter().any(|option| option == word);
        let typ = mount.type_.as_deref().unwrap_or_default();
        let source = mount.source.as_deref().unwrap_or_default();
        let (flags, taken_back) = flags(options);
        let kind = match typ {
            // The option decides, whatever the type says: both runtimes look at it alone.
            _ if has("bind") || has("rbind") => {
                let path = self.files.absolute(&self.folder.join(source)).display().to_string();
                VolumeKind::Bind { path: path.into_bytes(), make_missing: false }
            }
            "bind" => {
                let span = item.span.clone();
                let message = "a mount of type bind without the option bind or rbind fails with ENODEV";
                self.diagnostics.add(Severity::Error, self.source, &span, message, None);
                return None;
            }
            "tmpfs" if target == "/dev" => VolumeKind::System("dev".to_owned()),
            "tmpfs" => VolumeKind::Tmpfs(tmpfs(options)),
            "proc" | "sysfs" | "mqueue" => VolumeKind::System(typ.to_owned()),
            other => VolumeKind::Other { kind: other.to_owned(), read_only: false },
        };
        // A bundle may mount twice at one place; the number keeps the volumes apart.
        let name = Fact::new(format!("{target} ({index})"), place.clone());
        volumes.push(Volume { name: name.clone(), kind });
        let mut ids = MountIds {
            uids: map(&mount.uid_mappings).unwrap_or_default(),
            gids: map(&mount.gid_mappings).unwrap_or_default(),
        };
        let mut bad_map = None;
        match (ids.uids.is_identity(), ids.gids.is_identity()) {
            (false, true) => bad_map = Some("uidMappings without gidMappings".to_owned()),
            (true, false) => bad_map = Some("gidMappings without uidMappings".to_owned()),
            (true, true) | (false, false) => {}
        }
        let lines =
            options.iter().find_map(|option| option.strip_prefix("idmap=")).filter(|text| !text.is_empty());
        if let Some(text) = lines.filter(|_| ids == MountIds::default()) {
            match id_map::asked(text, namespace) {
                Some(asked) => ids = asked,
                None => bad_map = Some(format!("idmap={text}")),
            }
        }
        Some(VolumeMount {
            read_only: flags.has(MountFlags::READ_ONLY),
            flags,
            ids,
            engine: EngineOptions {
                taken_back,
                id_mapped: has("idmap") || has("idmap="),
                bad_map,
                ..EngineOptions::default()
            },
            below: below(options),
            ..VolumeMount::new(name, Fact::new(target.into_bytes(), place))
        })
    }

    /// What is hidden and what is read-only.
    fn shields(&self, linux: Option<&Linux>) -> Vec<Shield> {
        let Some(linux) = linux else { return Vec::new() };
        let lists = [
            (&linux.masked_paths, "maskedPaths", ShieldKind::Masked),
            (&linux.readonly_paths, "readonlyPaths", ShieldKind::ReadOnly),
        ];
        let shields = lists.into_iter().flat_map(|(paths, key, kind)| {
            let list = self.node.find(&format!("linux.{key}"));
            paths.iter().enumerate().map(move |(index, path)| {
                let item = list.and_then(|list| list.item(index)).unwrap_or(self.node);
                let from = self.source.place(&item.span, key);
                Shield { at: Fact::new(path.clone().into_bytes(), from), kind }
            })
        });
        shields.collect()
    }

    /// The account files of the root file system, where the bundle has it at hand.
    fn accounts(&self, root: &str, scene: &mut Scene) {
        let folder = self.folder.join(root);
        // What a scene tells of the root file system comes before what lies beside the bundle.
        if scene.images.contains_key(root) || !matches!(self.files.folder(&folder), Ok(Some(_))) {
            return;
        }
        let read = |name: &str| {
            let path = folder.join("etc").join(name);
            let bytes = self.files.read(&path).ok()?;
            Some((path.display().to_string(), String::from_utf8_lossy(&bytes).into_owned()))
        };
        let known = Accounts {
            passwd: read("passwd").map(|(name, text)| accounts::passwd(&name, &text)),
            group: read("group").map(|(name, text)| accounts::group(&name, &text)),
            incomplete: None,
        };
        scene.images.entry(root.to_owned()).or_default().identity.accounts = Knowledge::Known(known);
    }
}

/// Lines of a map; those the kernel would refuse are for the runtime to report.
/// The flag that an option sets (`true`) or clears.
fn turned(option: &str) -> Option<(MountFlags, bool)> {
    let set = MountFlags::by_word(option).map(|flag| (flag, true));
    set.or_else(|| match option {
        "rw" => Some((MountFlags::READ_ONLY, false)),
        positive => Some((MountFlags::by_word(&format!("no{positive}"))?, false)),
    })
}

/// Flags of a mount, of which the last word on each counts, and those that an earlier option had set.
fn flags(options: &[String]) -> (MountFlags, MountFlags) {
    let turned = options.iter().filter_map(|option| turned(option));
    turned.fold((MountFlags::NONE, MountFlags::NONE), |(flags, taken), (flag, set)| {
        // What was asked for and taken back again still makes crun mount a bind a second time.
        if set { (flags.with(flag), taken) } else { (flags.without(flag), taken.with(flags.both(flag))) }
    })
}

/// Mounts below come along with `rbind` alone, and take the recursive flags (docs/facts/runtimes.md section 10).
fn below(options: &[String]) -> Below {
    let left = !options.iter().any(|option| option == "rbind");
    let recursive = options.iter().filter_map(|option| turned(option.strip_prefix('r')?));
    recursive.fold(Below { left, ..Below::default() }, |below, (flag, set)| {
        if set {
            Below { set: below.set.with(flag), ..below }
        } else {
            Below { cleared: below.cleared.with(flag), ..below }
        }
    })
}

fn tmpfs(options: &[String]) -> TmpfsAsked {
    let mut asked = TmpfsAsked::default();
    for option in options {
        // What is no option of a tmpfs is one of the runtime's own.
        let _: Told = take(option, &mut asked);
    }
    TmpfsAsked { added: MountFlags::NONE, cleared: MountFlags::NONE, ..asked }
}
