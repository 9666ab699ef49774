//! What `.volume`, `.build` and `.kube` files say.

use std::ops::Range;
use std::path::{Path, PathBuf};

use super::super::made::{Made, plain, text};
use super::beside::Beside;
use super::specifiers::Name;
use super::syntax::Unit;
use crate::yaml::Node;

/// The volume of a `.volume` file: its name, and its options as a project's volume has them.
pub(super) fn volume(unit: Option<&Unit>, file: &str, span: &Range<usize>) -> (String, Node) {
    let said = |key: &str| {
        let setting = unit.and_then(|unit| unit.last("Volume", key));
        setting.map(|setting| setting.value.clone())
    };
    let name = said("VolumeName").unwrap_or_else(|| format!("systemd-{}", Name::of(file).stem));
    let mut volume = Made::default();
    volume.set("name", text(&name, span));
    let mut options = Made::default();
    for (key, option) in [("Type", "type"), ("Device", "device")] {
        if let Some(value) = said(key) {
            options.set(option, text(&value, span));
        }
    }
    let ids = [("User", "uid"), ("Group", "gid")];
    let ids = ids.iter().filter_map(|(key, option)| Some(format!("{option}={}", said(key)?)));
    let all: Vec<String> = said("Options").into_iter().chain(ids).collect();
    if !all.is_empty() {
        options.set("o", text(&all.join(","), span));
    }
    if said("Copy").as_deref() == Some("false") {
        options.set("nocopy", text("", span));
    }
    if let Some(driver) = said("Driver") {
        volume.set("driver", text(&driver, span));
    }
    volume.set("driver_opts", options.node(span.clone()));
    (name, volume.node(span.clone()))
}

/// The image that a `.build` file makes, and how.
pub(super) fn build(unit: &Unit, (file, span): (&str, &Range<usize>), beside: Beside<'_>) -> (String, Node) {
    let folder = beside.folder;
    let said = |key: &str| unit.last("Build", key).map(|setting| setting.value.as_str());
    let name = said("ImageTag").map_or_else(|| format!("localhost/{file}"), str::to_owned);
    let at = |path: &str| folder.join(path).display().to_string();
    let context = match said("SetWorkingDirectory") {
        None | Some("unit" | "file") => folder.display().to_string(),
        Some(path) => at(path),
    };
    let mut build = Made::default();
    build.set("context", text(&context, span));
    let usual = folder.join(&context).join("Containerfile");
    // buildah looks for that before it looks for a Dockerfile.
    let usual = || beside.files.look(&usual).is_ok().then(|| usual.display().to_string());
    if let Some(path) = said("File").map(at).or_else(usual) {
        build.set("dockerfile", text(&path, span));
    }
    if let Some(target) = said("Target") {
        build.set("target", text(target, span));
    }
    for setting in unit.all("Build", "BuildArg") {
        build.add("args", plain(&setting.value, span));
    }
    (name, build.node(span.clone()))
}

/// The manifests that a `.kube` file has Podman play.
pub(super) fn manifests(unit: &Unit, folder: &Path) -> Vec<PathBuf> {
    unit.all("Kube", "Yaml").iter().map(|setting| folder.join(&setting.value)).collect()
}
