//! `--uidmap` and `--gidmap`: the maps of a container's own user namespace (podman-run(1)).

use std::sync::Arc;

use mivask_core::fact::Fact;
use mivask_core::ids::{Extent, IdMap, UserNamespace};
use mivask_core::unmodelled::Unmodelled;

use super::run::{Reading, Run};
use super::words::Word;
use crate::diagnostic::Severity;
use crate::id_lines::{extent, overlap};

impl Reading<'_> {
    /// Gives the container its maps, where they are plain lines of numbers; anything else about them is not modelled, and neither
    /// is anything then.
    pub(super) fn maps(&mut self, run: &mut Run) {
        let Some((name, first)) = run.maps.first().cloned() else { return };
        let uids = of(run, "uidmap");
        let gids = of(run, "gidmap");
        let plain = run.maps.iter().all(|(name, _)| ["uidmap", "gidmap"].contains(&name.as_str()));
        let from = self.source.place(&first.span, &name);
        match (uids, gids) {
            (Some(uids), Some(gids)) if plain && !(uids.is_empty() && gids.is_empty()) => {
                // Of one that is left out the other one stands for both.
                let both = |own: &[Extent], other: &[Extent]| {
                    if own.is_empty() { other.to_vec() } else { own.to_vec() }
                };
                let (uids, gids) = (both(&uids, &gids), both(&gids, &uids));
                let maps = UserNamespace { uids: IdMap::new(uids), gids: IdMap::new(gids) };
                run.user_namespace = Some(Fact::new(Arc::new(maps), from));
            }
            _ => {
                let settle = "write them as numbers, INSIDE:OUTSIDE:COUNT, or give the maps under `host: { user-namespace: ... }` in a scene file";
                let what = format!("`--{name}`");
                let message =
                    format!("{what} in this form is not modelled: answers depend on the ids it gives");
                self.say(Severity::Warning, &first, &message, Some(settle.to_owned()));
                run.unmodelled.push(Unmodelled::ids(&what, settle, from));
            }
        }
    }
}

/// The lines that one option gives; `None` where one of them is not of plain numbers.
fn of(run: &Run, name: &str) -> Option<Vec<Extent>> {
    let given = run.maps.iter().filter(|(known, _)| known == name);
    let mut all: Vec<Extent> = Vec::new();
    for (_, word) in given {
        let line = line(word)?;
        if all.iter().any(|known| overlap(known, &line)) {
            return None;
        }
        all.push(line);
    }
    Some(all)
}

fn line(word: &Word) -> Option<Extent> {
    let digits = word.text.bytes().all(|byte| byte.is_ascii_digit() || byte == b':');
    (word.unknown.is_none() && digits).then(|| extent(&word.text.replace(':', " ")))?
}
