//! Id maps of user namespaces and mounts.

use mivask_core::ids::{Extent, IdMap};
use mivask_core::namespace::overlap;

use super::convert::Reading;
use crate::diagnostic::Severity;
use crate::id_lines::extent;
use crate::yaml::Node;
use crate::yaml::RawText;

impl Reading<'_> {
    /// The two maps under `node`; a malformed line is an error and is left out.
    pub(super) fn id_maps(&mut self, uids: &[RawText], gids: &[RawText], node: &Node) -> (IdMap, IdMap) {
        (
            self.id_map(uids, node.get("uids").unwrap_or(node)),
            self.id_map(gids, node.get("gids").unwrap_or(node)),
        )
    }

    fn id_map(&mut self, lines: &[RawText], node: &Node) -> IdMap {
        let mut extents: Vec<Extent> = Vec::new();
        for (index, line) in lines.iter().enumerate() {
            let span = &node.item(index).unwrap_or(node).span;
            let Some(extent) = extent(&line.0) else {
                let message = format!("`{}` is not a line of an id map", line.0.escape_debug());
                let help =
                    Some("write three numbers: START START COUNT, such as \"0 100000 65536\"".to_owned());
                self.diagnostics.add(Severity::Error, self.source, span, message, help);
                continue;
            };
            if extents.iter().any(|known| overlap(known, &extent)) {
                let message = "the line covers ids that an earlier one covers already";
                self.diagnostics.add(Severity::Error, self.source, span, message, None);
                continue;
            }
            extents.push(extent);
        }
        IdMap::new(extents)
    }
}
