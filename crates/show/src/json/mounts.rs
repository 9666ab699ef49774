//! The mount table.

use mivask_core::labels::Relabelled;
use mivask_core::mount::RootFacts;
use mivask_core::question::MountRow;
use schemars::JsonSchema;
use serde::Serialize;

use super::JsonPath;
use super::answers::RefusalJson;
use super::tables::told;

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Mount")]
pub(super) struct MountJson<'a> {
    actor: &'a str,
    at: JsonPath,
    source: &'a str,
    kind: &'a str,
    filesystem: Option<&'a str>,
    flags: Vec<&'static str>,
    /// Why the actor never runs; the mounts are what it would have.
    refusal: Option<RefusalJson<'a>>,
    id_mapped: bool,
    root: Option<RootJson>,
    /// The root's owner as the actor sees it, where that is another number; 65534 for one without a mapping.
    inside_uid: Option<u32>,
    inside_gid: Option<u32>,
    /// The SELinux label of what shows there; `null` where SELinux does not decide, or nobody told it.
    label: Option<&'a str>,
    /// What the engine made of the labels below it: `shared` (`z`), `private` (`Z`), `contested` where several containers do, `overlaid`.
    relabelled: Option<&'static str>,
    prepared_from: Option<RootJson>,
    touches: usize,
    notes: Vec<&'a str>,
    depends_on: Option<&'a str>,
    from: String,
}

#[derive(Debug, JsonSchema, Serialize)]
#[schemars(rename = "Root")]
struct RootJson {
    /// `null` for an id of a range that the engine picks.
    uid: Option<u32>,
    gid: Option<u32>,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: String,
    /// `uid` and `gid` are as the disk has them, whatever a mount or a user namespace maps them to.
    #[schemars(extend("const" = "stored"))]
    ids: &'static str,
}

fn root(facts: RootFacts) -> RootJson {
    RootJson { uid: told(facts.uid), gid: told(facts.gid), mode: facts.mode.to_string(), ids: "stored" }
}

impl<'a> MountJson<'a> {
    pub(super) fn new(row: &'a MountRow) -> Self {
        Self {
            actor: &row.actor,
            at: JsonPath::new(&row.at),
            source: &row.source,
            kind: row.kind.word(),
            filesystem: row.filesystem.as_deref(),
            flags: row.flags.words(),
            refusal: row.refusal.as_ref().map(RefusalJson::new),
            id_mapped: row.id_mapped,
            root: row.root.map(root),
            inside_uid: row.inside.map(|(uid, _)| uid.raw()),
            inside_gid: row.inside.map(|(_, gid)| gid.raw()),
            label: row.label.as_ref().and_then(Option::as_deref),
            relabelled: row.relabelled.map(Relabelled::word),
            prepared_from: row.prepared_from.map(root),
            touches: row.touches,
            notes: row.notes.iter().map(|note| &**note).collect(),
            depends_on: row.question.as_ref().map(|unknown| &*unknown.fact),
            from: row.from.to_string(),
        }
    }
}
