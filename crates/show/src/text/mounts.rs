//! What is mounted where.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::mount::RootFacts;
use mivask_core::picked::in_words;
use mivask_core::question::MountRow;

use super::{Layout, paragraph};
use crate::safe::safe;
use crate::style::{FAINT, OPEN, STRONG, paint};
use crate::table::Table;

/// The mounts of each actor; `rows` come grouped by actor.
///
/// # Errors
/// Whatever `out` refuses.
pub fn mounts(out: &mut dyn Write, rows: &[MountRow], layout: Layout<'_>) -> io::Result<()> {
    for (index, group) in rows.chunk_by(|a, b| a.actor == b.actor).enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        writeln!(out, "{}", paint(STRONG, &safe(&group[0].actor)))?;
        let layout = layout.of(&group[0].actor);
        if let Some(refusal) = &group[0].refusal {
            let text = format!("never runs: {}; this is what would be mounted", safe(&refusal.reason));
            paragraph(out, &text, 2, layout)?;
        }
        let apart = group.iter().any(|row| row.inside.is_some());
        let labelled = group.iter().any(|row| row.label.is_some());
        let mut titles = vec!["at", "what", "flags", "root", "before", "inodes changed"];
        titles.extend(apart.then_some("inside"));
        titles.extend(labelled.then_some("label"));
        let mut table = Table::new(&titles).with_stored(STORED);
        for row in group {
            let inside = row.inside.map(|(uid, gid)| format!("{}:{}", uid.raw(), gid.raw()));
            let inside = apart.then(|| inside.unwrap_or_default());
            let label = labelled.then(|| label(row));
            table.row(cells(row).into_iter().chain(inside).chain(label).collect());
        }
        write!(out, "{}", table.render(layout))?;
        notes(out, group, layout)?;
    }
    Ok(())
}

/// The columns of owners as the disk keeps them.
const STORED: &[usize] = &[3, 4];

fn cells(row: &MountRow) -> Vec<String> {
    let kind = row.filesystem.as_ref().filter(|fs| ***fs != *row.kind.word() && **fs != row.source);
    let what = kind.map_or_else(|| row.source.to_string(), |fs| format!("{} ({fs})", row.source));
    let plain = |text: String| {
        if row.is_default() { paint(FAINT, &text) } else { text }
    };
    let root = row.root.map_or_else(|| paint(OPEN, "not known"), |root| plain(facts(root)));
    let touches = if row.touches == 0 { String::new() } else { row.touches.to_string() };
    vec![
        plain(quoted(&row.at)),
        plain(safe(&what)),
        plain(if row.id_mapped { format!("{},idmapped", row.flags) } else { row.flags.to_string() }),
        root,
        row.prepared_from.map(facts).unwrap_or_default(),
        touches,
    ]
}

/// The label, and the option that gave it.
fn label(row: &MountRow) -> String {
    match (&row.label, row.relabelled) {
        (None, _) => String::new(),
        (Some(None), None) => paint(OPEN, "not known"),
        (Some(None), Some(how)) => paint(OPEN, &format!("not known: set by {}", how.by())),
        (Some(Some(label)), None) => safe(short(label)),
        (Some(Some(label)), Some(how)) => format!("{}, by {}", safe(short(label)), how.by()),
    }
}

/// Type and level: user and role decide little, and take half of a line.
fn short(label: &str) -> &str {
    label.splitn(3, ':').nth(2).unwrap_or(label)
}

fn facts(root: RootFacts) -> String {
    format!("{}:{} {}", in_words(root.uid), in_words(root.gid), root.mode)
}

fn notes(out: &mut dyn Write, rows: &[MountRow], layout: Layout<'_>) -> io::Result<()> {
    for row in rows.iter().filter(|row| !row.is_default()) {
        let at = quoted(&row.at);
        let notes: Vec<String> = row.notes.iter().map(|note| safe(note)).collect();
        if row.question.is_some() {
            paragraph(out, &format!("{at}: either {}", notes.join("; or ")), 2, layout)?;
        } else {
            notes.iter().try_for_each(|note| paragraph(out, &format!("{at}: {note}"), 2, layout))?;
        }
        if let Some(unknown) = &row.question {
            let text = format!(
                "{}: not known: {}; to settle it: {}",
                quoted(&row.at),
                safe(&unknown.fact),
                safe(&unknown.settle)
            );
            writeln!(out, "  {}", paint(OPEN, &super::folded(&text, 2, layout.width)))?;
        }
    }
    Ok(())
}
