//! A whole tree in a few lines.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::mode::symbolic;
use mivask_core::question::{Blocker, Cell, Ending, Overview, PathFacts, Share, Swept};
use mivask_core::settle::Outcome;
use mivask_core::trace::Check;

use super::survey::grouped;
use super::{Layout, id};
use crate::layout::Counted;
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, USUAL_MARK as MARK, paint, usual_or};
use crate::table::Table;

/// The endings of each column, and the directories that shut most off.
///
/// # Errors
/// Whatever `out` refuses.
pub fn overview(out: &mut dyn Write, overview: &Overview, layout: Layout<'_>) -> io::Result<()> {
    let out = &mut Counted::new(out);
    let layout = layout.of(&overview.actor);
    let (entries, noun) = counted(overview.entries);
    let count = match (overview.unlisted, overview.entries) {
        (true, 0) => "nothing is known of what is".to_owned(),
        (true, _) => format!("{entries} known {noun}"),
        (false, _) => format!("{entries} {noun}"),
    };
    let when =
        if overview.when.is_empty() { String::new() } else { format!(", if {}", safe(&overview.when)) };
    writeln!(
        out,
        "{}{when}: {count} below {}",
        paint(STRONG, &safe(&overview.actor)),
        quoted(&overview.start)
    )?;
    if !overview.shares.is_empty() {
        let width = |numbers: &dyn Fn(&Share) -> u64, title: &str| {
            let longest = overview.shares.iter().map(|share| grouped(numbers(share)).len()).max();
            longest.unwrap_or(0).max(title.len())
        };
        let entries = width(&|share| share.entries, "entries");
        let directories = width(&|share| share.directories, "directories");
        let titles = [format!("{:>entries$}", "entries"), format!("{:>directories$}", "directories")];
        let mut table = Table::new(&["act", "outcome", &titles[0], &titles[1], "decided by"]);
        let mut before = None;
        for share in &overview.shares {
            // The word once, at the first of its lines.
            let word = if before == Some(share.column) { "" } else { share.column.word() };
            before = Some(share.column);
            table.row(row(share, word, (entries, directories)));
        }
        write!(out, "{}", table.render(layout))?;
    }
    blockers(out, overview, layout)?;
    let usual: Vec<String> = overview.rests_on.usual.iter().map(|usual| safe(&usual.says)).collect();
    if !usual.is_empty() {
        writeln!(out)?;
        super::paragraph(out, &format!("as usual: {}", usual.join("; ")), 0, layout)?;
    }
    super::assumptions(out, &overview.rests_on.assumptions.iter().collect(), layout)
}

fn row(share: &Share, word: &str, (entries, directories): (usize, usize)) -> Vec<String> {
    vec![
        word.to_owned(),
        ending(share.ending),
        format!("{:>entries$}", grouped(share.entries)),
        format!("{:>directories$}", grouped(share.directories)),
        match (share.shut, share.ending.cell) {
            (true, Cell::Open) => "whether a directory above may be searched".to_owned(),
            (true, Cell::Void | Cell::Allowed | Cell::Denied(_)) => {
                "a directory above that may not be searched".to_owned()
            }
            (false, _) => reason(share.ending),
        },
    ]
}

fn blockers(out: &mut dyn Write, overview: &Overview, layout: Layout<'_>) -> io::Result<()> {
    if overview.blockers.is_empty() {
        return Ok(());
    }
    let count = overview.blocking;
    let shown = overview.blockers.len() as u64;
    let title = match count {
        1 => "One directory may not be searched".to_owned(),
        count if count > shown => {
            format!("{} directories may not be searched; the {shown} that shut most off", grouped(count))
        }
        count => format!("{count} directories may not be searched"),
    };
    writeln!(out, "\n{title}")?;
    let mut table = Table::new(&["directory", "owner", "mode", "outcome", "entries below", "decided by"]);
    for Blocker { path, ending: found, entries, facts } in &overview.blockers {
        let (owner, mode) = facts.as_ref().map_or_else(Default::default, owner_and_mode);
        let below = format!("{:>13}", grouped(*entries));
        let why = reason(*found);
        table.row(vec![quoted(path).to_string(), owner, mode, ending(*found), below, why]);
    }
    write!(out, "{}", table.render(layout))
}

fn owner_and_mode(facts: &PathFacts) -> (String, String) {
    let owner = format!("{}:{}", id(facts.uid.map(|uid| uid.raw())), id(facts.gid.map(|gid| gid.raw())));
    let mode = facts.mode.map_or_else(
        || format!("{} {}", facts.kind.word(), paint(OPEN, "not known")),
        |mode| format!("{} {mode}", symbolic(facts.kind, mode)),
    );
    (owner, mode)
}

fn ending(ending: Ending) -> String {
    if let Some(usual) = ending.usually() {
        return usual_or(Some(&usual), &Outcome::Depends);
    }
    match ending.cell {
        Cell::Void => paint(FAINT, "-"),
        Cell::Allowed => paint(GOOD, "allowed"),
        Cell::Denied(errno) => paint(BAD, &format!("denied {errno}")),
        Cell::Open => paint(OPEN, "depends"),
    }
}

fn counted(entries: u64) -> (String, &'static str) {
    (grouped(entries), if entries == 1 { "entry" } else { "entries" })
}

/// The check in a few words.
fn reason(ending: Ending) -> String {
    let Some(check) = ending.check else { return "nothing denies it".to_owned() };
    let text = match check {
        Check::Link => "where the link or the interpreter leads",
        Check::Kind => "the kind of file",
        Check::MountPoint => "something is mounted there",
        Check::ReadOnlyFilesystem => "the file system is read-only",
        Check::ReadOnlyMount => "the mount is read-only",
        Check::NoExec => "the mount is noexec",
        Check::NoDev => "the mount is nodev",
        Check::DeviceList => "the container's device list",
        Check::Immutable => "the immutable attribute",
        Check::AppendOnly => "the append-only attribute",
        Check::Unmapped => "an id without a mapping",
        Check::OwnerBits => "the owner's bits",
        Check::AclUser => "a named user of the ACL",
        Check::AclGroup => "a group of the ACL",
        Check::GroupBits => "the group's bits",
        Check::OtherBits => "the bits of others",
        Check::UnmappedOwner => "owners that are not mapped",
        Check::Capability => "a capability",
        Check::Sticky => "the sticky bit of the directory",
        Check::ProtectedFile | Check::ProtectedSymlink | Check::ProtectedHardlink => "a kernel setting",
        Check::Feature => "what the file system can do",
        Check::Server => "the server",
        Check::Fuse => "who may enter the FUSE mount",
        Check::Empty => "what is in it",
        Check::Format => "what the file's first bytes are",
        Check::Label => "the label, by SELinux",
        Check::Profile => "the engine's AppArmor profile",
        Check::Unknown => "a missing fact",
        Check::Lookup => "its name",
        Check::OneMount
        | Check::Owner
        | Check::GivingAway
        | Check::FileCapabilities
        | Check::SetId
        | Check::Imprint => check.code(),
    };
    text.to_owned()
}

/// One entry of a list, in fixed columns so that rows can be written as they come.
///
/// # Errors
/// Whatever `out` refuses.
pub fn swept(
    out: &mut dyn Write,
    swept: &Swept<'_>,
    facts: Option<&PathFacts>,
    layout: Layout<'_>,
) -> io::Result<()> {
    let (owner, mode) = facts.map_or_else(Default::default, owner_and_mode);
    let owner = layout.named(&owner);
    write!(out, "  {mode:<15} {owner:>11} ")?;
    for column in mivask_core::question::Column::ALL {
        let (mark, text, style) = match (swept.cell(column), swept.endings.of(column).usual) {
            (Cell::Open, Some(Cell::Allowed)) => (MARK, "yes", OPEN),
            (Cell::Open, Some(Cell::Denied(errno))) => (MARK, errno.name(), OPEN),
            (Cell::Open, _) => ("", "depends", OPEN),
            (Cell::Void, _) => ("", "-", FAINT),
            (Cell::Allowed, _) => ("", "yes", GOOD),
            (Cell::Denied(errno), _) => ("", errno.name(), BAD),
        };
        let width = 10 - mark.len();
        write!(out, " {style}{mark}{text:<width$}{style:#}")?;
    }
    writeln!(out, " {}", quoted(swept.path))
}

/// The titles of such a list.
///
/// # Errors
/// Whatever `out` refuses.
pub fn swept_titles(out: &mut dyn Write, actor: &str, start: &[u8]) -> io::Result<()> {
    writeln!(out, "{}: below {}", paint(STRONG, &safe(actor)), quoted(start))?;
    write!(out, "  {STRONG}{:<15} {:>11} ", "mode", "owner")?;
    for column in mivask_core::question::Column::ALL {
        write!(out, " {:<10}", column.word())?;
    }
    writeln!(out, " path{STRONG:#}")
}
