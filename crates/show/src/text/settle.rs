//! What would settle several answers: facts that stand in a scene file as a snippet to paste, then the rest, each once.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};

use mivask_core::question::Answer;

use super::{Layout, paragraph};
use crate::safe::safe;
use crate::style::{FAINT, STRONG, paint};

/// What a fact begins and ends with that a scene file can give.
const GIVE: (&str, &str) = ("give `", "` in a scene file");
const OR: &str = ", or let it be looked for with --images-from";

/// Whether the answers have more than one place for what settles them.
pub(super) fn is_shared(answers: &[Answer]) -> bool {
    answers.iter().filter(|answer| !answer.depends_on.is_empty()).count() > 1
}

/// The section below all answers.
pub(super) fn settle(out: &mut dyn Write, answers: &[Answer], layout: Layout<'_>) -> io::Result<()> {
    let all: BTreeSet<&str> = answers
        .iter()
        .flat_map(|answer| &answer.depends_on)
        .flat_map(|one| one.settle.iter().map(|text| &**text))
        .collect();
    let mut snippet: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    let mut rest: BTreeSet<&str> = BTreeSet::new();
    for text in all {
        let (plain, looked_for) = text.strip_suffix(OR).map_or((text, false), |plain| (plain, true));
        match given(plain) {
            Some((key, value)) => {
                snippet.entry(key).or_default().push(value);
                if looked_for {
                    rest.insert("or let images be looked for with --images-from");
                }
            }
            None => {
                rest.insert(text);
            }
        }
    }
    if snippet.is_empty() && rest.is_empty() {
        return Ok(());
    }
    writeln!(
        out,
        "\n{}",
        paint(STRONG, if snippet.is_empty() { "To settle it" } else { "To settle it, in a scene file" })
    )?;
    for (key, values) in snippet {
        writeln!(out, "  {}", safe(&format!("{key}: {{ {} }}", values.join(", "))))?;
    }
    for text in rest {
        paragraph(out, &paint(FAINT, &safe(text)), 2, layout)?;
    }
    Ok(())
}

/// `volumes` and `readings: { tree: ... }` of "give `volumes: { readings: { tree: ... } }` in a scene file".
fn given(text: &str) -> Option<(&str, &str)> {
    let line = text.strip_prefix(GIVE.0)?.strip_suffix(GIVE.1)?;
    let (key, value) = line.split_once(": { ")?;
    Some((key, value.strip_suffix(" }")?)).filter(|(key, value)| !key.contains('`') && !value.contains('`'))
}

#[cfg(test)]
mod tests {
    use super::given;

    #[test]
    fn what_a_scene_can_give_is_taken_apart() {
        let text = "give `volumes: { readings: { tree: ... } }` in a scene file";
        assert_eq!(given(text), Some(("volumes", "readings: { tree: ... }")));
        assert_eq!(given("say `group-ownership: apply` or `skip` for the volume in a scene file"), None);
        assert_eq!(given("give `user` as numbers, or `accounts` for the image"), None);
    }
}
