//! Podman's unit files (podman-systemd.unit(5)): `.container`, with the `.pod`, `.volume` and `.build` files that it names.
//!
//! Podman's generator makes a `podman run` of each; so does this, and reads that.

mod beside;
mod container;
mod keys;
mod other;
mod specifiers;
mod syntax;

use std::path::{Path, PathBuf};

use mivask_core::scene::Scene;

use super::runs::{Of, Runs};
use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use beside::Beside;
use container::Reader;
pub(crate) use container::SECTION;
pub(crate) use keys::{Key, key, key_of};
use specifiers::Name;
pub(crate) use syntax::{Setting, Unit, split};

/// What workloads of such files are.
pub(crate) const KIND: &str = "unit";

/// Sections that only Podman's own unit files have.
const SECTIONS: [&str; 7] = ["Container", "Pod", "Kube", "Volume", "Build", "Image", "Network"];

/// Whether a text is such a file: its first line that says anything is a section, and it has one of Podman's.
pub(crate) fn is_one(text: &str) -> bool {
    let mut lines =
        text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with(['#', ';']));
    let section = |line: &str| line.starts_with('[') && line.ends_with(']');
    let own = |line: &str| SECTIONS.iter().any(|name| line.get(1..line.len() - 1) == Some(name));
    lines.next().is_some_and(section) && text.lines().map(str::trim).any(|line| section(line) && own(line))
}

/// Adds what a unit starts; gives back the manifests that a `.kube` file names.
pub(crate) fn add(
    source: &SourceText,
    (folder, files): (&Path, &dyn FileReader),
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) -> Vec<PathBuf> {
    let whole = files.absolute(folder).display().to_string();
    let name = Name::of(&source.name);
    let beside = Beside { folder, files };
    let mut odd = Vec::new();
    let mut unit = Unit::parse(&source.text, &mut |span| odd.push(span));
    for span in odd {
        let help = Some("write KEY=VALUE below a [Section]".to_owned());
        diagnostics.add(Severity::Warning, source, &span, "this line says nothing: it is passed over", help);
    }
    let head = source.text.find('[').unwrap_or(0);
    let head = head..source.text[head..].find('\n').map_or(source.text.len(), |end| head + end);
    for path in beside.add_drop_ins(&mut unit, &name, &head) {
        let message = format!("{} adds to it", path.display());
        diagnostics.add(Severity::Note, source, &head, message, None);
    }
    if unit.has("Container") {
        let mut runs = Runs::default();
        let mut reader =
            Reader { source, unit: &unit, name: &name, beside, whole: &whole, head, diagnostics };
        reader.container(&mut runs);
        runs.add(&Of { source, folder, files, name: &name.stem, kind: KIND }, scene, diagnostics);
        return Vec::new();
    }
    if unit.has("Pod") {
        members(&name, beside, scene, diagnostics);
        return Vec::new();
    }
    if unit.has("Kube") {
        return other::manifests(&unit, folder);
    }
    let message = format!("a .{} unit starts no process", name.ending.escape_debug());
    let help = Some("give the .container file that names it".to_owned());
    diagnostics.add(Severity::Error, source, &head, message, help);
    Vec::new()
}

/// The containers of the folder that are in the pod.
fn members(pod: &Name, beside: Beside<'_>, scene: &mut Scene, diagnostics: &mut Diagnostics) {
    let mut paths = beside.siblings();
    paths.retain(|path| path.extension().is_some_and(|end| end == "container"));
    paths.sort();
    for path in paths {
        let shown = path.display().to_string();
        let is_in = |unit: &Unit| unit.last("Container", "Pod").is_some_and(|one| one.value == pod.file);
        if !beside.unit(&Name::of(&shown).file).as_ref().is_some_and(is_in) {
            continue;
        }
        if let Some(text) = beside.files.read(&path).ok().and_then(|bytes| String::from_utf8(bytes).ok()) {
            let source = SourceText::new(&shown, &text);
            add(&source, (beside.folder, beside.files), scene, diagnostics);
        }
    }
}
