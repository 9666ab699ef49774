//! A mode, taken apart.

use std::io::{self, Write};

use mivask_core::mode::{Access, Class, FileKind, Mode, ModeChange, power, symbolic};
use mivask_core::question::Decoded;

use super::{Layout, folded, paragraph};
use crate::safe::safe;
use crate::style::{FAINT, GOOD, OPEN, STRONG, paint};
use crate::table::Table;

/// What is asked about a mode, beside the mode.
#[derive(Clone, Copy, Debug)]
pub struct About<'a> {
    /// What changes it.
    pub change: Option<&'a ModeChange>,
    /// The umask of whoever changes or creates.
    pub umask: Option<Mode>,
    /// Owner and group in a line of a listing, as words.
    pub owners: Option<(&'a str, &'a str)>,
    /// The mode that the number was meant as in decimal.
    pub decimal: Option<Mode>,
}

/// The mode in its forms, then for each kind what it grants, what is odd, and what a umask leaves.
///
/// # Errors
/// Whatever `out` refuses.
pub fn decoded(
    out: &mut dyn Write,
    rows: &[Decoded],
    about: &About<'_>,
    layout: Layout<'_>,
) -> io::Result<()> {
    let Some(first) = rows.first() else { return Ok(()) };
    let About { change, umask, owners, decimal } = *about;
    forms(out, first.before)?;
    if let Some((owner, group)) = owners {
        writeln!(out, "  owner {}, group {}", safe(owner), safe(group))?;
    }
    if let Some(decimal) = decimal {
        let text = format!("the number is read as octal; in decimal it would be {decimal}");
        writeln!(out, "  {} {text}", paint(OPEN, "note"))?;
    }
    if let Some(change) = change {
        let under = umask.map_or_else(|| "0022, the usual umask".to_owned(), |umask| umask.to_string());
        let note =
            if change.counts_umask() { format!(" (no class named: under {under})") } else { String::new() };
        for row in rows {
            let kind = noun(row.kind);
            let text = format!("{change} on a {kind}: {} -> {} {}", row.before, row.mode, letters(row));
            writeln!(out, "{}{}", paint(GOOD, &text), paint(FAINT, &note))?;
            let (sets, clears) = (row.sets.named('+'), row.clears.named('-'));
            let difference = match (sets.as_str(), clears.as_str()) {
                ("", "") => "changes nothing".to_owned(),
                (sets, "") => format!("sets {sets}, clears nothing"),
                ("", clears) => format!("sets nothing, clears {clears}"),
                (sets, clears) => format!("sets {sets}, clears {clears}"),
            };
            writeln!(out, "  {difference}")?;
            for remark in &row.remarks {
                writeln!(out, "  {} {}", paint(OPEN, "note"), folded(remark, 7, layout.width))?;
            }
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
    let weight = |bit, weight: &str| if mode.has(bit) { weight } else { "0" }.to_owned();
    let [owner, group, others] = Class::ALL.map(|class| sum(class.of(mode)));
    let suid = weight(Mode::SET_USER_ID, "4");
    let (sgid, sticky) = (weight(Mode::SET_GROUP_ID, "2"), weight(Mode::STICKY, "1"));
    table.row(vec!["sum".to_owned(), suid, sgid, sticky, owner, group, others]);
    write!(out, "{}", table.render(Layout::default()))
}

/// A digit as the sum of its weights: `4+2`.
fn sum(access: Access) -> String {
    let weights = [4, 2, 1].into_iter().filter(|weight| access.bits() & weight != 0);
    let sum = weights.map(|weight| weight.to_string()).collect::<Vec<_>>().join("+");
    if sum.is_empty() { "0".to_owned() } else { sum }
}

/// What a umask leaves of what programs ask for.
///
/// # Errors
/// Whatever `out` refuses.
pub fn umask(out: &mut dyn Write, umask: Mode) -> io::Result<()> {
    let kept = Mode::new(0o777).without(umask);
    let taken = umask.masked(Mode::new(0o777)).named('-');
    writeln!(
        out,
        "umask {}  lets {} through{}",
        paint(STRONG, &umask.to_string()),
        kept.clauses(),
        match &*taken {
            "" => ", takes nothing".to_owned(),
            taken => format!(", takes {taken}"),
        }
    )?;
    let mut table = Table::new(&["what", "asked for", "gets", ""]);
    for (what, asked, kind) in [
        ("a file", 0o666, FileKind::File),
        ("a directory", 0o777, FileKind::Directory),
        ("a program", 0o777, FileKind::File),
    ] {
        let gets = Mode::new(asked).without(umask.masked(Mode::new(0o777)));
        table.row(vec![
            what.to_owned(),
            Mode::new(asked).to_string(),
            gets.to_string(),
            symbolic(kind, gets),
        ]);
    }
    write!(out, "{}", table.render(Layout::default()))?;
    writeln!(out, "{}", paint(FAINT, "  a default ACL of the directory takes the place of the umask"))
}

/// The modes that people use, side by side.
///
/// # Errors
/// Whatever `out` refuses.
pub fn common_modes(out: &mut dyn Write, layout: Layout<'_>) -> io::Result<()> {
    let mut table = Table::new(&["mode", "letters", "owner", "group", "others", "usual for"]);
    for (mode, purpose) in mivask_core::question::common_modes() {
        let [owner, group, others] = Class::ALL.map(|class| sum(class.of(mode)));
        let letters = symbolic(FileKind::File, mode)[1..].to_owned();
        table.row(vec![paint(STRONG, &mode.to_string()), letters, owner, group, others, purpose.to_owned()]);
    }
    write!(out, "{}", table.render(layout))?;
    writeln!(out)?;
    paragraph(
        out,
        "Each digit is a sum: 4 reads (r), 2 writes (w), 1 runs a file or enters a directory (x). A digit in front: 4 setuid, 2 setgid, 1 sticky.",
        0,
        layout,
    )
}

fn kind(out: &mut dyn Write, row: &Decoded, layout: Layout<'_>) -> io::Result<()> {
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
    if row.kind != FileKind::Directory {
        paragraph(out, "deleting and renaming it is the directory's matter: w and x there", 2, layout)?;
    }
    let made: Vec<String> =
        row.created.iter().map(|(umask, made)| format!("umask {umask} -> {made}")).collect();
    paragraph(out, &format!("created with {}: {}", row.mode, made.join(", ")), 2, layout)
}
