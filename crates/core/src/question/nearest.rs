//! The path that was probably meant.

use mivask_stage::stage::{Actor, Stage};

use super::facts::facts_at;
use super::listing::entries;

/// More names than this in a directory are not compared.
const MOST: usize = 10_000;

/// `path` with its first missing name replaced by the one in that directory that differs by a letter or two, if that makes a
/// path of something that is there. Letter case never counts.
pub(super) fn nearest(stage: &Stage, actor: &Actor, path: &[u8]) -> Option<Vec<u8>> {
    let there = |path: &[u8]| facts_at(stage, actor, path).is_some();
    let ends = path.iter().enumerate().filter(|(at, byte)| **byte == b'/' && *at > 0).map(|(at, _)| at);
    let end = ends.chain([path.len()]).find(|end| !there(&path[..*end]))?;
    let start = path[..end].iter().rposition(|byte| *byte == b'/')? + 1;
    let name = &path[start..end];
    let directory = if start > 1 { &path[..start - 1] } else { b"/".as_slice() };
    let most = (name.len() / 3).clamp(1, 2);
    let word = String::from_utf8_lossy(name).to_lowercase();
    let (_, meant) = entries(stage, actor, directory)
        .into_iter()
        .take(MOST)
        .map(|(known, _)| {
            let text = String::from_utf8_lossy(&known).to_lowercase();
            (strsim::damerau_levenshtein(&word, &text), known)
        })
        .filter(|(distance, known)| *distance <= most && known != name)
        .min()?;
    let meant = [&path[..start], &meant, &path[end..]].concat();
    there(&meant).then_some(meant)
}
