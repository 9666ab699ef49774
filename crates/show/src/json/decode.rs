//! `decode` for machines.

use std::io::{self, Write};

use mivask_core::mode::{Class, Concern, power, symbolic};
use mivask_core::question::Decoded;
use schemars::JsonSchema;
use serde::Serialize;

use super::document;

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Mode")]
pub(super) struct ModeJson {
    kind: &'static str,
    before: String,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: String,
    letters: String,
    clauses: String,
    classes: Vec<ClassJson>,
    /// Clauses of the bits that the change sets, such as `g+w`; empty where it sets none.
    sets: String,
    /// Clauses of the bits that it clears.
    clears: String,
    notes: Vec<&'static str>,
    created: Vec<CreatedJson>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Class")]
struct ClassJson {
    class: &'static str,
    bits: String,
    can: &'static str,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Created")]
struct CreatedJson {
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    umask: String,
    #[schemars(regex(pattern = "^[0-7]{4}$"))]
    mode: String,
}

impl ModeJson {
    fn new(row: &Decoded) -> Self {
        let class = |class: Class| {
            let access = class.of(row.mode);
            ClassJson { class: class.word(), bits: access.to_string(), can: power(access, row.kind) }
        };
        let made = row.created.iter();
        Self {
            kind: row.kind.word(),
            before: row.before.to_string(),
            mode: row.mode.to_string(),
            letters: symbolic(row.kind, row.mode),
            clauses: row.mode.clauses(),
            classes: Class::ALL.map(class).into(),
            sets: row.sets.named('+'),
            clears: row.clears.named('-'),
            notes: row
                .remarks
                .iter()
                .copied()
                .chain(row.concerns.iter().map(|concern: &Concern| concern.text()))
                .collect(),
            created: made
                .map(|(umask, mode)| CreatedJson { umask: umask.to_string(), mode: mode.to_string() })
                .collect(),
        }
    }
}

/// `decode`: one object a kind of file, in the list `modes`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn decoded(out: &mut dyn Write, rows: &[Decoded]) -> io::Result<()> {
    document(out, "modes", rows.iter().map(ModeJson::new))
}
