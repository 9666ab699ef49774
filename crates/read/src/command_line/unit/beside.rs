//! What stands beside a unit file: drop-ins, and the volumes, pods and builds that it names.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

use super::specifiers::Name;
use super::syntax::Unit;
use crate::files::FileReader;

/// A folder of unit files.
#[derive(Clone, Copy)]
pub(super) struct Beside<'a> {
    pub folder: &'a Path,
    pub files: &'a dyn FileReader,
}

impl Beside<'_> {
    /// Another unit of the folder with its drop-ins; `None` where there is none, or it cannot be read.
    pub(super) fn unit(&self, file: &str) -> Option<Unit> {
        if file.contains('/') {
            return None;
        }
        let text = self.text(&self.folder.join(file))?;
        let mut unit = Unit::parse(&text, &mut |_| {});
        self.add_drop_ins(&mut unit, &Name::of(file), &(0..0));
        Some(unit)
    }

    /// Adds the drop-ins of a unit, at `span`; gives back which there are.
    pub(super) fn add_drop_ins(&self, unit: &mut Unit, name: &Name, span: &Range<usize>) -> Vec<PathBuf> {
        let mut found: BTreeMap<String, PathBuf> = BTreeMap::new();
        // Of two of one name the one of the folder that says more counts.
        for folder in folders(name) {
            let inside = self.files.folder(&self.folder.join(folder)).ok().flatten().unwrap_or_default();
            for path in inside {
                let file = path.file_name().and_then(|file| file.to_str()).unwrap_or_default().to_owned();
                if file.ends_with(".conf") {
                    found.insert(file, path);
                }
            }
        }
        let mut paths = Vec::new();
        for path in found.into_values() {
            if let Some(text) = self.text(&path) {
                unit.drop_in(Unit::parse(&text, &mut |_| {}), span);
                paths.push(path);
            }
        }
        paths
    }

    /// Every file of the folder.
    pub(super) fn siblings(&self) -> Vec<PathBuf> {
        let here = if self.folder.as_os_str().is_empty() { Path::new(".") } else { self.folder };
        self.files.folder(here).ok().flatten().unwrap_or_default()
    }

    fn text(&self, path: &Path) -> Option<String> {
        String::from_utf8(self.files.read(path).ok()?).ok()
    }
}

/// The folders of drop-ins, the most general first (systemd.unit(5)): `container.d`, `tide-.container.d`,
/// `tide-gauge@.container.d`, `tide-gauge@west.container.d`.
fn folders(name: &Name) -> Vec<String> {
    let ending = &name.ending;
    let mut all = vec![format!("{ending}.d")];
    let stem = name.prefix();
    for (at, _) in stem.match_indices('-').filter(|(at, _)| at + 1 < stem.len()) {
        all.push(format!("{}.{ending}.d", &stem[..=at]));
    }
    if name.instance().is_some() {
        all.push(format!("{stem}@.{ending}.d"));
    }
    all.push(format!("{}.d", name.file));
    all
}

#[cfg(test)]
mod tests {
    use super::{Name, folders};

    #[test]
    fn drop_ins_of_every_part_of_a_name() {
        assert_eq!(
            folders(&Name::of("tide-gauge@west.container")),
            ["container.d", "tide-.container.d", "tide-gauge@.container.d", "tide-gauge@west.container.d"]
        );
        assert_eq!(folders(&Name::of("gauge.container")), ["container.d", "gauge.container.d"]);
    }
}
