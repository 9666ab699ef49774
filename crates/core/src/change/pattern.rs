//! Changes of many files at once: the path is a pattern.

use mivask_model::act::Act;
use mivask_model::glob::Globs;
use mivask_model::mode::FileKind;
use mivask_model::mount::MountTable;
use mivask_model::path::or_root;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::Stage;

/// The acts that `act` means: itself, or one for each path that its pattern matches, symbolic links left out as a
/// recursive change leaves them alone.
///
/// # Errors
/// The pattern is invalid, or matches nothing.
pub(super) fn expanded(
    stage: &Stage,
    table: &MountTable,
    act: &Act,
    globs: &dyn Globs,
) -> Result<Vec<Act>, String> {
    let Some(start) = act.path.iter().position(|byte| matches!(byte, b'*' | b'?' | b'[')) else {
        return Ok(vec![act.clone()]);
    };
    // A name may hold such a character: what exists under this very name is taken literally.
    if matches!(look(&stage.storage, table, &act.path, Follow::AllButLast), Ok(Sight::There(_))) {
        return Ok(vec![act.clone()]);
    }
    let matches = globs.matcher(&act.path).map_err(|error| error.to_string())?;
    let base = act.path[..start].iter().rposition(|byte| *byte == b'/').map_or(0, |at| at);
    let mut found = Vec::new();
    let mut pending = vec![act.path[..base].to_vec()];
    while let Some(directory) = pending.pop() {
        let Ok(Sight::There(place)) = look(&stage.storage, table, or_root(&directory), Follow::Links) else {
            continue;
        };
        let Some(id) = place.inode else { continue };
        for (name, child) in stage.source(place.source).tree.children(id) {
            let path = [directory.as_slice(), b"/", name].concat();
            let kind = stage.source(place.source).tree.inode(child).kind;
            if matches(&path) && kind != FileKind::Link {
                found.push(Act { path: path.clone(), ..act.clone() });
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
    Ok(found)
}
