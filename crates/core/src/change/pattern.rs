//! Changes of many files at once: the path is a pattern.

use mivask_model::act::Act;
use mivask_model::glob::{Globs, fixed_part, is_pattern};
use mivask_model::mode::FileKind;
use mivask_model::mount::MountTable;
use mivask_model::storage::Storage;

use crate::recursion::{from_below, joined, kind_at, names_in, on_path, verb_for, whole};

/// The acts that `act` means: itself, or one for each path that its pattern matches, in the order of the tools. `/data/**`
/// is `/data` with everything in it.
///
/// # Errors
/// The pattern is invalid, or matches nothing.
pub(super) fn expanded(
    storage: &Storage,
    table: &MountTable,
    act: &Act,
    globs: &dyn Globs,
) -> Result<Vec<Act>, String> {
    // A name may hold such a character: what exists under this very name is taken literally.
    if !is_pattern(&act.path) || kind_at(storage, table, &act.path).is_some() {
        return Ok(vec![act.clone()]);
    }
    let matches = globs.matcher(&act.path).map_err(|error| error.to_string())?;
    let mut found = Vec::new();
    let mut meet = |path: &[u8], kind: FileKind| {
        found.extend(verb_for(&act.verb, kind).map(|verb| on_path(act, verb, path)));
    };
    let base = whole(&act.path);
    let mut pending = vec![fixed_part(&act.path).to_vec()];
    if let Some(base) = base
        && let Some(kind) = kind_at(storage, table, base)
    {
        meet(base, kind);
        // A tool that is given a link to a directory changes the owner of the link and goes no further.
        if kind == FileKind::Link && verb_for(&act.verb, kind).is_some() {
            pending.clear();
        }
    }
    while let Some(directory) = pending.pop() {
        for name in names_in(storage, table, &directory) {
            let path = joined(&directory, &name);
            let Some(kind) = kind_at(storage, table, &path) else { continue };
            if matches(&path) {
                meet(&path, kind);
            }
            if kind == FileKind::Directory {
                pending.push(path);
            }
        }
    }
    if found.is_empty() {
        return Err("the pattern matches nothing that is listed".to_owned());
    }
    found.sort_by(|a, b| a.path.cmp(&b.path));
    if from_below(&act.verb) {
        found.reverse();
    }
    Ok(found)
}
