//! The files of a remedy written where the user wants them.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::{Path, PathBuf};

use mivask_core::remedy::Remedy;
use mivask_read::patch::merge_patch;
use mivask_show::remedy::Written;

use super::RemedyError;
use crate::end::Failure;
use crate::output;

/// Writes the files that the remedy of number `pick` changes to `path`, or into it where that is a folder.
pub(super) fn apply(
    (pick, remedy): (usize, &Remedy),
    written: &Written,
    path: &Path,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let changed: Vec<(&str, &str)> = written.changed().collect();
    let targets: Vec<(PathBuf, &str)> = match changed.as_slice() {
        [] => return Err(RemedyError::NotInDescription(pick).into()),
        all if path.is_dir() => {
            let mut names = BTreeSet::new();
            let mut targets = Vec::new();
            for (file, text) in all {
                let name = Path::new(file).file_name().unwrap_or_default();
                if !names.insert(name) {
                    return Err(RemedyError::OneName(name.to_string_lossy().into_owned()).into());
                }
                targets.push((path.join(name), *text));
            }
            targets
        }
        [(_, text)] => vec![(path.to_path_buf(), *text)],
        several => return Err(RemedyError::SeveralFiles(several.len()).into()),
    };
    for (target, text) in &targets {
        output::amend(target, |file| Ok(file.write_all(text.as_bytes())?))?;
    }
    let names: Vec<String> =
        targets.iter().map(|(path, _)| mivask_show::safe(&path.display().to_string())).collect();
    let built = |step: &mivask_core::remedy::RemedyStep| {
        let on_disk = matches!(step.change, mivask_core::change::Change::Files(_));
        step.there.is_some() && (on_disk || written.images.is_empty())
    };
    let rest = if remedy.steps.iter().any(built) {
        ", as far as the description takes it: its commands are still to be run"
    } else {
        ""
    };
    writeln!(err, "note: remedy {pick} is written to {}{rest}", names.join(", "))?;
    Ok(())
}

/// Writes what the remedy of number `pick` changes in Kubernetes objects to `path`, as a strategic merge patch.
pub(super) fn merged(
    pick: usize,
    written: &Written,
    path: &Path,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let mut all = Vec::new();
    for file in &written.files {
        let (Some(old), Some(new)) = (&file.old, &file.text) else { continue };
        all.push(merge_patch(old, new).map_err(|error| RemedyError::NoMerge { pick, error })?);
    }
    if all.is_empty() {
        return Err(RemedyError::NotInDescription(pick).into());
    }
    output::replace(path, |file| Ok(file.write_all(all.join("---\n").as_bytes())?))?;
    let path = mivask_show::safe(&path.display().to_string());
    writeln!(
        err,
        "note: what remedy {pick} changes in objects is written to {path}, a strategic merge patch"
    )?;
    Ok(())
}
