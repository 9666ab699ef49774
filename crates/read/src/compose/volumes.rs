//! Volumes of services, in their short and long forms, and those of the project.

use mivask_core::fact::Fact;
use mivask_core::ids::MountIds;
use mivask_core::mode::Mode;
use mivask_core::mount::MountFlags;
use mivask_core::outcome::Errno;
use mivask_core::personality::{Personality, Tmpfs};
use mivask_core::scene::{
    Below, Driver, EngineOptions, Relabel, TmpfsAsked, Volume, VolumeKind, VolumeMount,
};
use mivask_core::unmodelled::Unmodelled;

use super::project::Reading;
use super::types::{self, BindOptions, LongVolume};
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::tmpfs;
use crate::yaml::Node;

/// Whether the source of a short volume is a path of the host; a name of a volume otherwise.
pub(super) fn is_path(source: &str) -> bool {
    source.starts_with(['/', '.', '~'])
}

/// Where a short volume shows.
pub(super) fn target_of(short: &str) -> &str {
    let mut parts = short.split(':');
    // A single part is the target of an anonymous volume.
    let first = parts.next().unwrap_or_default();
    parts.next().unwrap_or(first)
}

/// One volume of a service as far as the form does not matter.
pub(super) struct Asked {
    pub kind: Kind,
    pub target: String,
    pub read_only: bool,
    pub no_copy: bool,
    pub sub_path: Option<String>,
    pub flags: MountFlags,
    pub engine: EngineOptions,
    pub below: Below,
}

impl Asked {
    /// `kind` at `target`, with nothing special about it.
    fn new(kind: Kind, target: String) -> Self {
        let flags = MountFlags::NONE;
        let engine = EngineOptions::default();
        let below = Below::default();
        Self { kind, target, read_only: false, no_copy: false, sub_path: None, flags, engine, below }
    }
}

/// What is to be mounted.
pub(super) enum Kind {
    Named(String),
    Anonymous,
    Bind { path: String, make_missing: bool },
    Tmpfs(TmpfsAsked),
    Image(String),
}

impl Reading<'_> {
    /// The volume at `item` of a service's list.
    pub(super) fn service_volume(&mut self, item: &Node) -> Option<Asked> {
        match item.text() {
            Some(short) => self.short(short, item),
            None => {
                let long: LongVolume = self.typed(item)?;
                self.long(&long, item)
            }
        }
    }

    fn short(&mut self, short: &str, item: &Node) -> Option<Asked> {
        let parts: Vec<&str> = short.split(':').collect();
        let (source, target, options) = match parts.as_slice() {
            [target] => (None, *target, ""),
            [source, target] => (Some(*source), *target, ""),
            [source, target, options] => (Some(*source), *target, *options),
            _ => {
                let help = Some("write SOURCE:TARGET or SOURCE:TARGET:ro".to_owned());
                self.diagnostic(Severity::Error, item, "a volume has at most three parts", help);
                return None;
            }
        };
        if source == Some("") {
            let help = Some("write SOURCE:TARGET, or TARGET alone for a volume of its own".to_owned());
            self.diagnostic(Severity::Error, item, "the source of a volume is empty", help);
            return None;
        }
        // A short bind makes what is missing on the host, as Docker does for `-v`; a long
        // one does not.
        let kind = match source {
            None => Kind::Anonymous,
            Some(path) if is_path(path) => Kind::Bind { path: self.home(path), make_missing: true },
            Some(name) => Kind::Named(name.to_owned()),
        };
        let mut read_only = false;
        let mut no_copy = false;
        let mut flags = MountFlags::NONE;
        let mut engine = EngineOptions::default();
        for option in options.split(',').filter(|option| !option.is_empty()) {
            match option {
                "ro" => read_only = true,
                "nocopy" => no_copy = true,
                // Consistency words are read by Docker Desktop alone, and propagation moves mounts, not permissions.
                "rw" | "cached" | "delegated" | "consistent" | "rprivate" | "private" | "rslave"
                | "slave" | "rshared" | "shared" | "copy" => {}
                "z" | "Z" => engine.relabel = self.relabel(option, item),
                "U" | "O" | "idmap" | "noexec" | "nosuid" | "nodev" => {
                    engine.take_over |= option == "U";
                    engine.id_mapped |= option == "idmap";
                    engine.overlaid |= option == "O";
                    flags = flags.with(MountFlags::by_word(option).unwrap_or(MountFlags::NONE));
                    let word = || Fact::new(option.to_owned(), self.source.place(&item.span, "volumes"));
                    engine.first = engine.first.or_else(|| Some(word()));
                }
                other => {
                    let name = format!("the option `{}` of a volume", other.escape_debug());
                    let message = format!("{name} is not modelled: it may refuse what all else permits");
                    self.diagnostic(Severity::Warning, item, &message, None);
                    let from = self.source.place(&item.span, "volumes");
                    self.unmodelled.push(Unmodelled::policy(&name, Errno::EACCES, from));
                }
            }
        }
        let target = self.target(target, item)?;
        Some(Asked { read_only, no_copy, flags, engine, ..Asked::new(kind, target) })
    }

    fn long(&mut self, long: &LongVolume, item: &Node) -> Option<Asked> {
        let source = long.source.clone();
        let bind = long.bind.as_ref();
        let word = long.r#type.as_deref().unwrap_or_default();
        let kind = match (word, source) {
            ("volume", Some(name)) => Kind::Named(name),
            ("volume", None) => Kind::Anonymous,
            ("bind", Some(path)) => {
                let make_missing = bind.and_then(|bind| bind.create_host_path) == Some(true);
                Kind::Bind { path: self.home(&path), make_missing }
            }
            ("tmpfs", _) => {
                let mode = long.tmpfs.as_ref().and_then(|tmpfs| tmpfs.mode);
                let mode = mode.and_then(|mode| u16::try_from(mode).ok()).map(Mode::new);
                Kind::Tmpfs(TmpfsAsked { mode, ..TmpfsAsked::default() })
            }
            ("image", Some(reference)) => Kind::Image(reference),
            ("bind" | "image", None) => {
                self.diagnostic(Severity::Error, item, "this volume has no `source`", None);
                return None;
            }
            (other, _) => {
                let known = ["volume", "bind", "tmpfs", "image"];
                let help = match nearest(other, known) {
                    Some(meant) => format!("did you mean `{meant}`?"),
                    None => format!("write `type:` {}", known.join(", ")),
                };
                let message = format!("volumes of type `{}` are not known here", other.escape_debug());
                self.diagnostic(Severity::Error, item, &message, Some(help));
                return None;
            }
        };
        let options = long.volume.as_ref();
        let image = long.image.as_ref().and_then(|image| image.subpath.clone());
        let below = self.below(bind, item)?;
        let relabel = bind.and_then(|bind| bind.selinux.as_deref()).and_then(|word| self.relabel(word, item));
        let target = self.target(long.target.as_deref().unwrap_or_default(), item)?;
        Some(Asked {
            below,
            read_only: long.read_only == Some(true) || matches!(kind, Kind::Image(_)),
            no_copy: options.and_then(|options| options.nocopy) == Some(true),
            sub_path: options.and_then(|options| options.subpath.clone()).or(image),
            engine: EngineOptions { relabel, ..EngineOptions::default() },
            ..Asked::new(kind, target)
        })
    }

    /// `z` or `Z`: the engine labels what is mounted, so that the containers may use it.
    fn relabel(&mut self, option: &str, item: &Node) -> Option<Fact<Relabel>> {
        let relabel = match option {
            "z" => Relabel::Shared,
            "Z" => Relabel::Private,
            _ => {
                let message = format!("`selinux: {}` of a bind is not known", option.escape_debug());
                self.diagnostic(Severity::Error, item, &message, Some("write z or Z".to_owned()));
                return None;
            }
        };
        Some(Fact::new(relabel, self.source.place(&item.span, "volumes")))
    }

    /// `recursive` of a bind.
    fn below(&mut self, bind: Option<&BindOptions>, item: &Node) -> Option<Below> {
        let word = bind.and_then(|bind| bind.recursive.as_deref());
        Some(match word {
            None | Some("enabled" | "writable") => Below::default(),
            Some("disabled") => Below { left: true, ..Below::default() },
            Some("readonly") => Below { set: MountFlags::READ_ONLY, ..Below::default() },
            Some(other) => {
                let message = format!("`recursive: {}` of a bind is not known", other.escape_debug());
                let help = Some("write enabled, disabled, writable or readonly".to_owned());
                self.diagnostic(Severity::Error, item, &message, help);
                return None;
            }
        })
    }

    fn target(&mut self, target: &str, item: &Node) -> Option<String> {
        // A volume over the root of a container would hide its program.
        if target.starts_with('/') && !target.trim_end_matches('/').is_empty() {
            return Some(target.to_owned());
        }
        let message = format!("`{}` is not a path to mount at", target.escape_debug());
        let help = Some("write an absolute path other than `/`".to_owned());
        self.diagnostic(Severity::Error, item, &message, help);
        None
    }

    fn home(&self, path: &str) -> String {
        // Whatever follows the `~` is below the home of whoever runs Compose (compose-go, `ExpandUser`).
        let home = path.strip_prefix('~').zip(self.files.variable("HOME").filter(|home| !home.is_empty()));
        match home {
            Some((rest, home)) if rest.trim_matches('/').is_empty() => home,
            Some((rest, home)) => format!("{}/{}", home.trim_end_matches('/'), rest.trim_start_matches('/')),
            None => path.to_owned(),
        }
    }

    /// `tmpfs:` of a service: `PATH` or `PATH:OPTIONS`.
    pub(super) fn tmpfs(&mut self, item: &Node) -> Option<Asked> {
        let text = item.text()?;
        let (target, options) = text.split_once(':').unwrap_or((text, ""));
        let mut asked = TmpfsAsked::default();
        for option in options.split(',').filter(|option| !option.is_empty()) {
            match tmpfs::take(option, &mut asked) {
                tmpfs::Told::Taken => {}
                tmpfs::Told::Unknown => {
                    asked.refused.get_or_insert_with(|| option.into());
                }
            }
        }
        let target = self.target(target, item)?;
        Some(Asked::new(Kind::Tmpfs(asked), target))
    }

    /// Adds the mount, and its volume where it has none of its own name yet.
    pub(super) fn attach(&mut self, service: &str, asked: Asked, item: &Node) -> Option<VolumeMount> {
        let place = |field: &str| self.source.place(&item.span, field);
        let own = format!("{service}:{}", asked.target);
        let (name, kind) = match asked.kind {
            Kind::Named(name) => {
                // The Compose specification has a service refer to volumes of the top level only.
                if !self.declared.contains(&name) {
                    let help = match nearest(&name, self.declared.iter().map(String::as_str)) {
                        Some(known) => format!("did you mean `{known}`?"),
                        None => format!(
                            "declare it under the top-level `volumes:`, or write ./{name} for a folder"
                        ),
                    };
                    let message = format!("volume `{}` is mounted but not declared", name.escape_debug());
                    self.diagnostic(Severity::Error, item, &message, Some(help));
                    return None;
                }
                (name, None)
            }
            Kind::Anonymous => (own, Some(VolumeKind::Anonymous)),
            Kind::Bind { path, make_missing } => {
                (own, Some(VolumeKind::Bind { path: path.into_bytes(), make_missing }))
            }
            Kind::Tmpfs(tmpfs) => (own, Some(VolumeKind::Tmpfs(tmpfs))),
            Kind::Image(reference) => {
                (own, Some(VolumeKind::Image(Fact::new(reference, place("volumes.source")))))
            }
        };
        // A service that is read twice, through `extends`, asks for the same volume again.
        let known = |volume: &Volume| volume.name.value == name;
        if let Some(kind) = kind
            && !self.volumes.iter().any(known)
        {
            self.volumes.push(Volume { name: Fact::new(name.clone(), place("volumes")), kind });
        }
        Some(VolumeMount {
            volume: Fact::new(name, place("volumes")),
            at: Fact::new(asked.target.into_bytes(), place("volumes")),
            read_only: asked.read_only,
            no_copy: asked.no_copy,
            flags: asked.flags,
            ids: MountIds::default(),
            sub_path: asked.sub_path.map(|path| Fact::new(path.into_bytes(), place("volumes.subpath"))),
            engine: asked.engine,
            below: asked.below,
            unknown_part: None,
        })
    }

    /// The volumes of the project.
    pub(super) fn project_volumes(&mut self, root: &Node) {
        for (key, node) in self.mapping(root, "volumes") {
            let Some(name) = key.text() else { continue };
            let given: types::Volume = self.typed(node).unwrap_or_default();
            let driver = self.driver(&given, node);
            let external = node.get("external").is_some_and(|given| {
                given.text().is_none_or(|text| crate::yaml::resolve(text) == crate::yaml::Scalar::Bool(true))
            });
            let name = Fact::new(name.to_owned(), self.source.place(&key.span, "volumes"));
            self.declared.push(name.value.clone());
            let flags = driver_flags(node);
            let usual = if external { name.value.clone() } else { format!("{}_{}", self.name, name.value) };
            let listed = given.name.unwrap_or(usual);
            self.volumes.push(Volume { name, kind: VolumeKind::Named { listed, driver, external, flags } });
        }
    }

    fn driver(&mut self, given: &types::Volume, node: &Node) -> Driver {
        if let Some(driver) =
            given.driver.as_ref().filter(|driver| !["local", "default"].contains(&driver.as_str()))
        {
            return Driver::Unknown(driver.clone());
        }
        let option = |key: &str| node.get("driver_opts").and_then(|all| all.get(key)).and_then(Node::text);
        let options: Vec<&str> = option("o").unwrap_or_default().split(',').map(str::trim).collect();
        match (option("type"), option("device")) {
            // The local driver calls mount(2) with these: `o: bind` makes any directory of the host a volume.
            (_, Some(device)) if options.iter().any(|word| *word == "bind" || *word == "rbind") => {
                Driver::Bind(device.as_bytes().to_vec())
            }
            (Some("tmpfs"), _) => {
                let mut tmpfs = Tmpfs::default();
                for word in options.iter().filter(|word| word.contains('=')) {
                    if let Err(error) = tmpfs.set(word) {
                        let message = format!("the option `{}` {error}", word.escape_debug());
                        self.diagnostic(Severity::Warning, node, &message, None);
                    }
                }
                Driver::Tmpfs(tmpfs)
            }
            (Some("none") | None, None) => Driver::Local,
            (Some(kind), _) => match Personality::of(kind) {
                Some(personality) => Driver::Nfs(personality),
                None => Driver::Unknown(kind.to_owned()),
            },
            (None, Some(device)) => Driver::Unknown(device.to_owned()),
        }
    }
}

/// The flags among the options that the local driver gives to mount(2).
fn driver_flags(node: &Node) -> MountFlags {
    let options =
        node.get("driver_opts").and_then(|all| all.get("o")).and_then(Node::text).unwrap_or_default();
    options.split(',').map(str::trim).fold(MountFlags::NONE, |flags, word| match MountFlags::by_word(word) {
        Some(flag) => flags.with(flag),
        None if word == "rw" => flags.without(MountFlags::READ_ONLY),
        None => MountFlags::by_word(&format!("no{word}")).map_or(flags, |flag| flags.without(flag)),
    })
}
