//! A first scene to fill in: what was described, and what is not known, as comments that become facts when they are filled in.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};

use mivask_core::identity::Knowledge;
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Image, Scene, VolumeKind, Workload};

use crate::safe::safe;

/// What is written for one name, and who asks for it.
type Asked<'a> = BTreeMap<&'a str, BTreeSet<String>>;

/// A name, and the source of what is known of it.
pub type Sourced = (String, String);

/// What was given beside the description, in paths as the scene is to have them.
#[derive(Debug, Default)]
pub struct Given {
    /// The description, and what is merged on top of it.
    pub workloads: Vec<String>,
    /// Whose rules apply.
    pub runtime: Option<Runtime>,
    /// Where images were looked for.
    pub images_from: Vec<String>,
    /// Sources of images.
    pub images: Vec<Sourced>,
    /// Sources of volumes, by the name that a scene has for them.
    pub volumes: Vec<Sourced>,
    /// Sources of the host, by path.
    pub host: Vec<Sourced>,
}

/// Prints the scene of what was `given`, whose facts so far are in `scene`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn draft(out: &mut dyn Write, scene: &Scene, given: &Given) -> io::Result<()> {
    writeln!(out, "# A scene: what runs, and the facts that decide who can do what to which files.")?;
    writeln!(
        out,
        "# Take the `#` away in front of what you fill in; what stays away is unknown, and answers say so."
    )?;
    writeln!(out, "scene: 1\nworkloads:")?;
    for path in &given.workloads {
        writeln!(out, "  - {}", text(path))?;
    }
    if let Some(runtime) = given.runtime {
        writeln!(out, "runtime: {}", runtime.word())?;
    } else if let Some(flavour) = scene.workloads.first().map(|workload| workload.flavour) {
        let words: Vec<&str> =
            Runtime::NAMED.into_iter().filter(|runtime| runtime.runs(flavour)).map(Runtime::word).collect();
        let usual = flavour.usual().word();
        writeln!(out, "# runtime: {usual}   # of {}; {usual} where left out", words.join(", "))?;
    }
    images(out, scene, given)?;
    volumes(out, scene, given)?;
    host(out, scene, given)?;
    let act = scene.workloads.iter().flat_map(|workload| &workload.containers).find_map(|container| {
        let mount = container.mounts.first()?;
        Some(format!("{} writes {}", container.name, String::from_utf8_lossy(&mount.at.value)))
    });
    let act = act.unwrap_or_else(|| "NAME reads /PATH".to_owned());
    writeln!(out, "\n# What is to hold, for `mivask uphold`.\n# expect:\n#   - {}", text(&act))
}

/// Prints the scene of people and a folder of this machine.
///
/// # Errors
/// Whatever `out` refuses.
pub fn of_folder(out: &mut dyn Write, folder: &str) -> io::Result<()> {
    let folder = text(folder);
    writeln!(out, "# A scene: people on one machine, and what they can do to which files.\nscene: 1\nhost:")?;
    writeln!(out, "  trees:\n    {folder}: {folder}   # as it is now; `mivask survey` keeps it as it was")?;
    writeln!(out, "  accounts: {{ passwd: /etc/passwd, group: /etc/group }}")?;
    writeln!(out, "  people: accounts   # everybody, or a list: [NAME, {{ name: visitor, user: \"9:9\" }}]")?;
    writeln!(out, "\n# What is to hold, for `mivask uphold`.\n# expect:\n#   - only root changes {folder}")
}

/// The heading of a part: a comment where nothing of it is given.
fn heading(out: &mut dyn Write, word: &str, given: &[Sourced]) -> io::Result<()> {
    writeln!(out, "\n{}{word}:", if given.is_empty() { "# " } else { "" })
}

/// What was found of an image, for those who read the scene.
fn found(name: &str, image: &Image) -> String {
    let user = match &image.identity.user {
        Knowledge::Known(Some(user)) => format!("user {}", safe(&user.value)),
        Knowledge::Known(None) => "no user, so root".to_owned(),
        Knowledge::Unknown => "its user is not known".to_owned(),
    };
    format!("{}: {user}", text(name))
}

fn images(out: &mut dyn Write, scene: &Scene, given: &Given) -> io::Result<()> {
    if !given.images_from.is_empty() {
        let places: Vec<String> = given.images_from.iter().map(|place| text(place)).collect();
        writeln!(out, "images-from: [{}]   # looked for again where it is needed", places.join(", "))?;
    }
    let is_given = |name: &str| given.images.iter().any(|(given, _)| given == name);
    for (name, image) in
        scene.images.iter().filter(|(name, _)| !given.images_from.is_empty() && !is_given(name))
    {
        writeln!(out, "# found: {}", found(name, image))?;
    }
    let mut asked: Asked<'_> = BTreeMap::new();
    for container in scene.workloads.iter().flat_map(|workload| &workload.containers) {
        if let Some(image) = &container.image {
            asked.entry(&image.value).or_default().insert(container.name.clone());
        }
    }
    asked.retain(|name, _| {
        let known = scene.images.get(*name);
        let built = scene.builds.contains_key(*name);
        let whole = |image: &Image| {
            image.tree.is_some()
                && matches!(image.identity.user, Knowledge::Known(_))
                && matches!(image.identity.accounts, Knowledge::Known(_))
        };
        !built && !is_given(name) && !known.is_some_and(whole)
    });
    if asked.is_empty() && given.images.is_empty() {
        return Ok(());
    }
    heading(out, "images", &given.images)?;
    for (name, source) in &given.images {
        writeln!(out, "  {}:\n    from: {}", text(name), text(source))?;
    }
    for (name, by) in asked {
        writeln!(out, "#   {}:   # run by {}", text(name), list(&by))?;
        writeln!(
            out,
            "#     from: {}   # all at once: an archive that an engine saved, an OCI layout, a root file system",
            text(&file(name, "tar"))
        )?;
        writeln!(out, "#     # or each by itself:")?;
        writeln!(out, "#     # user: \"UID:GID\"   # its USER; null where it has none")?;
        writeln!(
            out,
            "#     # accounts: {{ passwd: passwd, group: group }}   # copies of its /etc/passwd and /etc/group"
        )?;
        writeln!(out, "#     # tree: {}   # its files", text(&file(name, "survey")))?;
    }
    Ok(())
}

fn volumes(out: &mut dyn Write, scene: &Scene, given: &Given) -> io::Result<()> {
    let mut asked: Asked<'_> = BTreeMap::new();
    for workload in &scene.workloads {
        for (name, by) in stored(workload) {
            if scene.claim(&workload.namespace, name).is_none_or(|volume| volume.tree.is_none()) {
                asked.entry(name).or_default().extend(by);
            }
        }
    }
    if asked.is_empty() && given.volumes.is_empty() {
        return Ok(());
    }
    heading(out, "volumes", &given.volumes)?;
    for (name, source) in &given.volumes {
        writeln!(out, "  {}:\n    tree: {}", text(name), text(source))?;
    }
    for (name, by) in asked {
        let survey = file(name, "survey");
        writeln!(out, "#   {}:   # {}", text(name), list(&by))?;
        writeln!(
            out,
            "#     tree: {}   # what is on it: `mivask survey DIRECTORY -o {}`, or the output of `ls -lanR`",
            text(&survey),
            safe(&survey)
        )?;
        writeln!(out, "#     # filesystem: ext4")?;
    }
    Ok(())
}

/// Volumes of a workload whose files somebody has to give, with the mounts of each.
fn stored(workload: &Workload) -> Vec<(&str, BTreeSet<String>)> {
    let mut all = Vec::new();
    for volume in &workload.volumes {
        let Some(key) = volume.key() else { continue };
        let mounts = workload.containers.iter().flat_map(|container| {
            let own = container.mounts.iter().filter(|mount| mount.volume.value == volume.name.value);
            own.map(|mount| format!("{} at {}", container.name, String::from_utf8_lossy(&mount.at.value)))
        });
        all.push((key, mounts.collect()));
    }
    all
}

fn host(out: &mut dyn Write, scene: &Scene, given: &Given) -> io::Result<()> {
    let mut paths: BTreeSet<&[u8]> = BTreeSet::new();
    for volume in scene.workloads.iter().flat_map(|workload| &workload.volumes) {
        if let VolumeKind::HostPath { path, .. } | VolumeKind::Bind { path, .. } = &volume.kind {
            paths.insert(path);
        }
    }
    // The whole host, or a part of it that has the path.
    let told = |path: &[u8]| {
        let within = |part: &Sourced| mivask_core::host_mounts::is_within(path, part.0.as_bytes());
        given.host.iter().any(within) || given.host.is_empty() && scene.host.tree.is_some()
    };
    paths.retain(|path| !told(path));
    if paths.is_empty() && given.host.is_empty() {
        return Ok(());
    }
    heading(out, "host", &given.host)?;
    let mark = if given.host.is_empty() { "# " } else { "" };
    writeln!(out, "{mark}  trees:   # what is at the paths of the host that are mounted")?;
    for (path, source) in &given.host {
        writeln!(out, "    {}: {}", text(path), text(source))?;
    }
    for path in paths {
        let path = String::from_utf8_lossy(path);
        writeln!(out, "#     {}: {}", text(&path), text(&file(path.trim_matches('/'), "survey")))?;
    }
    writeln!(out, "#   mounts: mountinfo   # a copy of its /proc/self/mountinfo")
}

fn list(by: &BTreeSet<String>) -> String {
    let all: Vec<String> = by.iter().map(|one| safe(one)).collect();
    mivask_core::listed::listed(&all)
}

/// A file name for the facts of something of this name.
fn file(name: &str, end: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '-' };
    format!("{}.{end}", name.chars().map(plain).collect::<String>())
}

/// A scalar of YAML that reads back as this text.
fn text(value: &str) -> String {
    let plain = !value.is_empty()
        && value.chars().all(|c| c.is_ascii_alphanumeric() || "/._- ".contains(c))
        && value.starts_with(|c: char| c.is_ascii_alphabetic() || c == '/' || c == '.')
        && !value.ends_with(' ')
        && !["true", "false", "null", "yes", "no", "on", "off"].contains(&value.to_lowercase().as_str());
    if plain { value.to_owned() } else { serde_json::Value::from(value).to_string() }
}
