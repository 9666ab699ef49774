//! Two states of one disk.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use mivask_core::drift::{Drift, drift, summed};
use mivask_core::tree::Tree;
use mivask_show::json::List;

use super::Args;
use crate::end::{CommandError, End, Failure};
use crate::load::{Whole, layout};
use crate::options::Format;
use crate::plain;
use crate::reach::Asked;

/// What cannot be compared.
#[derive(Debug, thiserror::Error)]
enum DriftError {
    /// A disk and a description.
    #[error(
        "{0} is no description, and {1} is one: compare two disks, two descriptions, or with --volume NAME a volume and a disk"
    )]
    Unlike(String, String),
    /// The scene says nothing of that volume.
    #[error("what is on volume {0} is not given: {1}")]
    NoVolume(String, String),
    /// Nothing to compare the volume with.
    #[error("{0} is not a folder, a survey, an archive or a listing")]
    NoSource(String),
}

impl CommandError for DriftError {}

/// The disk before and after.
pub(super) type Pair = (Arc<Tree>, Arc<Tree>);

/// The two trees; `None` where two descriptions are to be compared.
pub(super) fn pair(args: &Args, other: &Path, err: &mut dyn Write) -> Result<Option<Pair>, Failure> {
    let shown = |path: &Path| mivask_show::safe(&path.display().to_string());
    let after = plain::tree(other)?;
    if let Some(name) = &args.volume {
        let after = after.ok_or_else(|| DriftError::NoSource(shown(other)))?;
        let whole = Whole::read(&args.input, &Asked::default(), err)?;
        let volumes = &whole.scene().volumes;
        let before = volumes.get(name).and_then(|volume| volume.tree.clone());
        let known = || {
            let known: Vec<&String> = volumes.keys().collect();
            if known.is_empty() {
                "the scene has no volumes".to_owned()
            } else {
                format!("there is {}", mivask_core::listed::listed(known))
            }
        };
        let missing = || DriftError::NoVolume(mivask_show::safe(name), mivask_show::safe(&known()));
        return Ok(Some((before.ok_or_else(missing)?, after)));
    }
    let before = plain::tree(&args.input.input)?;
    match (before, after) {
        (None, None) => Ok(None),
        (Some(before), Some(after)) => Ok(Some((before, after))),
        (Some(_), None) => Err(DriftError::Unlike(shown(&args.input.input), shown(other)).into()),
        (None, Some(_)) => Err(DriftError::Unlike(shown(other), shown(&args.input.input)).into()),
    }
}

pub(super) fn run(args: &Args, (before, after): &Pair, out: &mut dyn Write) -> Result<End, Failure> {
    let mut found: Vec<(Vec<u8>, Drift)> = Vec::new();
    let compared = drift(before, after, &mut |path, one| found.push((path.to_vec(), one)));
    if args.format == Format::Json {
        let mut list = List::begin(out, "differences")?;
        for (path, one) in &found {
            mivask_show::json::drift(&mut list, path, one)?;
        }
        list.end()?;
        return Ok(End::Answered);
    }
    let groups = summed(found.iter().map(|(path, one)| (path.as_slice(), one)));
    let paths = args.list.then_some(found.as_slice());
    mivask_show::drift::text(out, (compared, &groups), paths, layout())?;
    Ok(End::Answered)
}
