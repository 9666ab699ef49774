//! The file that an engine merges on top of a Compose file of its default name.

use std::path::{Path, PathBuf};

use crate::files::FileReader;

/// Names that are looked for where none is given (compose-go, `DefaultFileNames`).
const DEFAULT: [&str; 4] = ["compose.yaml", "compose.yml", "docker-compose.yml", "docker-compose.yaml"];
/// Names of what is merged on top (compose-go, `DefaultOverrideFileNames`).
const OVERRIDE: [&str; 4] = [
    "compose.override.yml",
    "compose.override.yaml",
    "docker-compose.override.yml",
    "docker-compose.override.yaml",
];

fn name(path: &Path) -> &str {
    path.file_name().and_then(|name| name.to_str()).unwrap_or_default()
}

/// What is merged on top of the file `path`, if anything is.
pub(super) fn on_top_of(path: &Path, files: &dyn FileReader) -> Option<PathBuf> {
    if !DEFAULT.contains(&name(path)) {
        return None;
    }
    let folder = path.parent().unwrap_or(Path::new(""));
    OVERRIDE.iter().map(|name| folder.join(name)).find(|path| files.look(path).is_ok())
}

/// Without the files that are merged on top of another one there.
pub(crate) fn without_overrides(paths: &mut Vec<PathBuf>) {
    if paths.iter().any(|path| DEFAULT.contains(&name(path))) {
        let first = OVERRIDE.iter().find(|wanted| paths.iter().any(|path| name(path) == **wanted));
        paths.retain(|path| first.is_none_or(|first| name(path) != *first));
    }
}
