//! A mode, taken apart.

use std::io::{self, Write};

use mivask_core::mode::{Access, Class, FileKind, Mode, ModeChange, power, symbolic};
use mivask_core::question::Decoded;

use super::{Layout, folded, paragraph};
use crate::style::{FAINT, GOOD, OPEN, STRONG, paint};
use crate::table::Table;

/// The mode in its forms, then for each kind what it grants, what is odd, and what a umask leaves.
///
/// # Errors
/// Whatever `out` refuses.
pub fn decoded(
    out: &mut dyn Write,
    rows: &[Decoded],
    change: Option<&ModeChange>,
    umask: Option<Mode>,
    layout: Layout,
) -> io::Result<()> {
    let Some(first) = rows.first() else { return Ok(()) };
    forms(out, first.before)?;
    if let Some(change) = change {
        let under = umask.map_or_else(|| "0022, the usual umask".to_owned(), |umask| umask.to_string());
        let note =
            if change.counts_umask() { format!(" (no class named: under {under})") } else { String::new() };
        for row in rows {
            let kind = noun(row.kind);
            let text = format!("{change} on a {kind}: {} -> {} {}", row.before, row.mode, letters(row));
            writeln!(out, "{}{}", paint(GOOD, &text), paint(FAINT, &note))?;
        }
        if rows.iter().any(|row| row.mode != first.mode) {
            paragraph(out, "X and a directory's set-id bits make the difference.", 2, layout)?;
        }
    }
    for row in rows {
        writeln!(out, "\n{}  {}", paint(STRONG, &format!("on a {}", noun(row.kind))), letters(row))?;
        kind(out, row, layout)?;
    }
    Ok(())
}

fn letters(row: &Decoded) -> String {
    symbolic(row.kind, row.mode)
}

const fn noun(kind: FileKind) -> &'static str {
    match kind {
        FileKind::File => "file",
        FileKind::Directory => "directory",
        FileKind::Link => "symbolic link",
        FileKind::Fifo => "fifo",
        FileKind::Socket => "socket",
        FileKind::CharDevice => "character device",
        FileKind::BlockDevice => "block device",
    }
}

/// Octal, letters, clauses and single bits.
fn forms(out: &mut dyn Write, mode: Mode) -> io::Result<()> {
    let nine = symbolic(FileKind::File, mode);
    writeln!(out, "{}  {}  {}", paint(STRONG, &mode.to_string()), &nine[1..], mode.clauses())?;
    let mut table = Table::new(&["", "setuid", "setgid", "sticky", "owner", "group", "others"]);
    let flag = |bit| if mode.has(bit) { "1" } else { "0" }.to_owned();
    let three = |access: Access| format!("{:03b}", access.bits());
    let [owner, group, others] = Class::ALL.map(|class| three(class.of(mode)));
    let special = [Mode::SET_USER_ID, Mode::SET_GROUP_ID, Mode::STICKY].map(flag);
    let [suid, sgid, sticky] = special;
    table.row(vec!["bits".to_owned(), suid, sgid, sticky, owner, group, others]);
    write!(out, "{}", table.render(None))
}

fn kind(out: &mut dyn Write, row: &Decoded, layout: Layout) -> io::Result<()> {
    for class in Class::ALL {
        let access = class.of(row.mode);
        writeln!(out, "  {:<7} {access}  {}", class.word(), power(access, row.kind))?;
    }
    for concern in &row.concerns {
        writeln!(out, "  {} {}", paint(OPEN, "note"), folded(concern.text(), 7, layout.width))?;
    }
    if matches!(row.kind, FileKind::Link) {
        return Ok(());
    }
    let made: Vec<String> =
        row.created.iter().map(|(umask, made)| format!("umask {umask} -> {made}")).collect();
    paragraph(out, &format!("created with {}: {}", row.mode, made.join(", ")), 2, layout)
}
