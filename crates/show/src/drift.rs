//! Two trees of one disk: for people and machines.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::drift::{Compared, Drift, DriftGroup, StoredFacts};

use crate::safe::safe;
use crate::style::{BAD, GOOD, OPEN, paint};
use crate::table::Table;
use crate::text::Layout;

/// What differs, summed, or path by path.
///
/// # Errors
/// Whatever `out` refuses.
pub fn text(
    out: &mut dyn Write,
    (compared, groups): (Compared, &[DriftGroup]),
    paths: Option<&[(Vec<u8>, Drift)]>,
    layout: Layout<'_>,
) -> io::Result<()> {
    let different: usize = groups.iter().map(|group| group.count).sum();
    if different == 0 {
        let same = format!("Nothing differs in {} entries.", compared.both);
        writeln!(out, "{}", paint(GOOD, &same))?;
    } else if let Some(paths) = paths {
        let mut table = Table::new(&["", "path", "before", "after"]);
        for (path, one) in paths {
            table.row(row(path, one));
        }
        write!(out, "{}", table.render(layout))?;
    } else {
        let mut table = Table::new(&["entries", "what", "below"]);
        for group in groups {
            table.row(vec![
                group.count.to_string(),
                paint(OPEN, &safe(&group.what)),
                safe(&quoted(&group.below)),
            ]);
        }
        write!(out, "{}", table.render(layout))?;
        writeln!(out, "\n{different} entries differ, {} are in both: --list shows each path", compared.both)?;
    }
    if compared.unknown > 0 {
        writeln!(out, "of {} entries owner or mode is known on one side only", compared.unknown)?;
    }
    Ok(())
}

fn row(path: &[u8], one: &Drift) -> Vec<String> {
    let path = safe(&quoted(path));
    let more = |below: usize| if below == 0 { String::new() } else { format!(" and {below} below") };
    let (word, before, after) = match one {
        Drift::Changed { before, after } => {
            ("now", before.in_words() + &beside(before), after.in_words() + &beside(after))
        }
        Drift::Appeared { after, below } => ("new", "-".to_owned(), after.in_words() + &more(*below)),
        Drift::Gone { before, below } => ("gone", before.in_words() + &more(*below), "-".to_owned()),
    };
    vec![paint(if word == "gone" { BAD } else { OPEN }, word), path, safe(&before), safe(&after)]
}

/// What a mode does not say.
fn beside(facts: &StoredFacts) -> String {
    let mut text = String::new();
    for part in [&facts.acl, &facts.default_acl, &facts.capabilities].into_iter().flatten() {
        text.push(' ');
        text.push_str(part);
    }
    if let Some(target) = &facts.target {
        text.push_str(" -> ");
        text.push_str(&quoted(target));
    }
    text
}
