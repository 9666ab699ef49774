//! Whom a path lets in, and what an actor reaches.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::ids::InsideGid;
use mivask_core::mode::{FileKind, symbolic};
use mivask_core::question::{Admission, Column, Condition, Ids, Reached};

use super::{Layout, id, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, paint};

/// Each thing at the path with its conditions.
///
/// # Errors
/// Whatever `out` refuses.
pub fn admissions(out: &mut dyn Write, all: &[Admission], layout: Layout<'_>) -> io::Result<()> {
    // Who sees nothing there is given last, and in short where others see something.
    let (there, missing): (Vec<_>, Vec<_>) = all.iter().partition(|one| one.facts.is_some());
    for (number, admission) in there.iter().chain(&missing).enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        let layout = layout.of(admission.seen_by.first().map_or("", String::as_str));
        let short = number >= there.len() && there.iter().any(|one| one.path == admission.path);
        if short {
            heading(out, admission, layout)?;
        } else {
            one(out, admission, layout)?;
        }
    }
    Ok(())
}

fn heading(out: &mut dyn Write, admission: &Admission, layout: Layout<'_>) -> io::Result<()> {
    let facts = admission.facts.map_or_else(String::new, |facts| {
        let mode = facts.mode.map_or_else(
            || format!("{}?????????", facts.kind.letter()),
            |mode| format!("{} {mode}", symbolic(facts.kind, mode)),
        );
        format!("  {mode} {}:{}", id(facts.uid.map(|id| id.raw())), id(facts.gid.map(|id| id.raw())))
    });
    let source =
        admission.source.as_ref().map_or_else(|| "nothing is known to be there".into(), |name| safe(name));
    let seen = format!("({source}, as {} see it)", safe(&admission.seen_by.join(", ")));
    let seen = if admission.seen_by.len() == 1 { seen.replace(" see it)", " sees it)") } else { seen };
    let title = paint(STRONG, &format!("{}{}", quoted(&admission.path), layout.named(&facts)));
    writeln!(out, "{title}  {}", paint(FAINT, &seen))
}

fn one(out: &mut dyn Write, admission: &Admission, layout: Layout<'_>) -> io::Result<()> {
    heading(out, admission, layout)?;
    let to = admission.to.word();
    if admission.anybody {
        let but = if admission.except.is_empty() { "" } else { ", but not" };
        writeln!(out, "  {} lets anybody {to}{but}", paint(GOOD, "open"))?;
        for condition in &admission.except {
            writeln!(out, "    {}", layout.named(&who(condition)))?;
        }
    } else if admission.conditions.is_empty() && !admission.depends_on.is_empty() {
        writeln!(out, "  {} no one for certain", paint(OPEN, "depends"))?;
    } else if admission.conditions.is_empty() {
        writeln!(out, "  {} no one can {to}, whatever the ids and capabilities", paint(BAD, "shut"))?;
    } else {
        writeln!(out, "  can {to}:")?;
        for condition in &admission.conditions {
            let actors = match condition.actors.as_slice() {
                [] => String::new(),
                actors => format!("  ({})", safe(&actors.join(", "))),
            };
            writeln!(out, "    {}{}", paint(GOOD, &layout.named(&who(condition))), paint(FAINT, &actors))?;
            for (path, fact) in &condition.through {
                paragraph(out, &paint(FAINT, &format!("{}: {}", quoted(path), safe(fact))), 6, layout)?;
            }
        }
    }
    if let Some(why) = &admission.why {
        let rest = if admission.conditions.is_empty() { "because" } else { "no one else, because" };
        paragraph(out, &format!("{rest} {}", safe(&why.to_string())), 2, layout)?;
    }
    if admission.cut_short {
        let text = "so many groups are named on the way that only two at a time were combined";
        paragraph(out, &paint(OPEN, text), 2, layout)?;
    }
    let facts: Vec<String> =
        admission.depends_on.iter().flat_map(|fact| fact.split("; ")).map(safe).collect();
    let facts: std::collections::BTreeSet<String> = facts.into_iter().collect();
    for fact in facts {
        paragraph(out, &paint(OPEN, &format!("it depends on {fact}")), 2, layout)?;
    }
    Ok(())
}

/// `uid 7101 in group 7300`, `any member of 7300 and 7400`, `any id with DAC_OVERRIDE`.
fn who(condition: &Condition) -> String {
    let groups: Vec<String> = condition.groups.iter().map(ToString::to_string).collect();
    let groups = groups.join(" and ");
    let ids = match (condition.uid, groups.is_empty()) {
        (Some(uid), true) => format!("uid {uid}"),
        (Some(uid), false) => format!("uid {uid}, if in group {groups}"),
        (None, true) => "any id".to_owned(),
        (None, false) => format!("any member of group {groups}"),
    };
    let capabilities: Vec<&str> = condition.capabilities.iter().map(|capability| capability.name()).collect();
    let with =
        if capabilities.is_empty() { ids } else { format!("{ids} with {}", capabilities.join(" and ")) };
    let unless: Vec<String> = condition.unless.iter().map(|ids| but_not(ids, &condition.groups)).collect();
    if unless.is_empty() { with } else { format!("{with}, but not {}", unless.join(" or ")) }
}

/// `uid 7101`, `uid 7101 in group 7300`, `members of group 7300`; groups that are known are left out.
fn but_not(ids: &Ids, known: &[InsideGid]) -> String {
    let others = ids.groups.iter().filter(|gid| !known.contains(gid));
    let groups: Vec<String> = others.map(ToString::to_string).collect();
    match (ids.uid, groups.is_empty()) {
        (Some(uid), true) => format!("uid {uid}"),
        (Some(uid), false) => format!("uid {uid} in group {}", groups.join(" and ")),
        (None, _) => format!("members of group {}", groups.join(" and ")),
    }
}

/// Everything an actor reaches below a directory.
///
/// # Errors
/// Whatever `out` refuses.
pub fn reached(
    out: &mut dyn Write,
    actor: &str,
    to: Column,
    start: &[u8],
    all: &[Reached],
    layout: Layout<'_>,
) -> io::Result<()> {
    let title = format!("{} can {} below {}", safe(actor), to.word(), quoted(start));
    writeln!(out, "{}", paint(STRONG, &title))?;
    if all.is_empty() {
        return writeln!(out, "  nothing that is listed");
    }
    for one in all {
        let slash = if one.kind == FileKind::Directory && !one.path.ends_with(b"/") { "/" } else { "" };
        let text = match one.below {
            Some(1) => format!("{}{slash}** and the 1 entry below it", quoted(&one.path)),
            Some(count) => format!("{}{slash}** and all {count} entries below it", quoted(&one.path)),
            None => format!("{}{slash}", quoted(&one.path)),
        };
        paragraph(out, &text, 2, layout)?;
    }
    Ok(())
}
