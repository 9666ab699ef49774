//! Who each actor is.

use std::io::{self, Write};

use mivask_core::fact::Provenance;
use mivask_core::identity::set_in_words;
use mivask_core::identity::{IdentityFact, IdentityField};
use mivask_core::ids::{InsideUid, UserNamespace};
use mivask_core::picked::in_words;
use mivask_core::stage::{Actor, Role};
use mivask_core::unmodelled::Touches;

use super::{Layout, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, OPEN, STRONG, paint};
use crate::table::Table;

/// Every actor with its facts, one below the other.
///
/// # Errors
/// Whatever `out` refuses.
pub fn identities(out: &mut dyn Write, actors: &[Actor], layout: Layout<'_>) -> io::Result<()> {
    for (index, actor) in actors.iter().enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        identity(out, actor, layout)?;
    }
    Ok(())
}

/// What an actor is a part of.
pub(crate) fn place(actor: &Actor) -> String {
    if actor.role == Role::Person {
        return "on the host".to_owned();
    }
    let image = actor.image.as_ref().map_or_else(String::new, |image| format!(", image {}", safe(image)));
    let place = if actor.guest { "in the place of the " } else { "" };
    format!("{place}{} container of {}{image}", actor.role.word(), safe(&actor.workload))
}

fn identity(out: &mut dyn Write, actor: &Actor, layout: Layout<'_>) -> io::Result<()> {
    let layout = layout.of(&actor.name);
    let title = safe(&actor.name);
    writeln!(out, "{}  {}", paint(STRONG, &title), place(actor))?;
    if let Some(refusal) = actor.refusal() {
        let text = format!("never runs: {} ({})", safe(&refusal.reason), refusal.class);
        writeln!(out, "  {}", paint(BAD, &super::folded(&text, 2, layout.width)))?;
        paragraph(out, &safe(&refusal.from.to_string()), 4, layout)?;
        return Ok(());
    }
    let outside = outside(actor);
    let titles: &[&str] = match outside {
        Some(_) => &["field", "value", "on the host", "from"],
        None => &["field", "value", "from"],
    };
    let mut table = Table::new(titles);
    let row = |field: &str, value: String, of_host: String, from: String| match outside {
        Some(_) => vec![field.to_owned(), value, of_host, from],
        None => vec![field.to_owned(), value, from],
    };
    let mut previous = None;
    for fact in actor.facts() {
        let field = if previous == Some(fact.field) { "" } else { fact.field.word() };
        previous = Some(fact.field);
        let value = match fact.from {
            Provenance::Unknown(_) => paint(OPEN, &safe(&fact.value)),
            Provenance::Document { .. }
            | Provenance::Line { .. }
            | Provenance::Source(_)
            | Provenance::Rule(_)
            | Provenance::Assumption(_)
            | Provenance::Act(_) => value(fact, layout),
        };
        let of_host = outside.map(|namespace| on_host(fact, namespace)).unwrap_or_default();
        table.row(row(field, value, of_host, paint(FAINT, &safe(&fact.from.to_string()))));
    }
    let mut possible = actor.identity.possible.iter().map(|(_, identity)| (identity.effective, identity.uid));
    let given = actor.facts().iter().any(|fact| fact.field == IdentityField::Effective);
    if let Some((effective, uid)) = possible.next()
        && !given
        && possible.all(|other| other == (effective, uid))
    {
        let why = why_effective(effective.is_empty(), uid.is(InsideUid::new(0)));
        table.row(row("effective", set_in_words(effective), String::new(), paint(FAINT, why)));
    }
    write!(out, "{}", table.render(layout))?;
    if let Some(unknown) = &actor.identity.question {
        let whens: Vec<String> = actor.identity.possible.iter().map(|(when, _)| safe(when)).collect();
        writeln!(
            out,
            "  {}",
            paint(OPEN, &super::folded(&format!("either {}", whens.join(", or ")), 2, layout.width))
        )?;
        paragraph(out, &format!("to settle it: {}", safe(&unknown.settle)), 2, layout)?;
    }
    unsettled(out, actor, layout)
}

/// Why those capabilities are in force.
const fn why_effective(none: bool, root: bool) -> &'static str {
    match (none, root) {
        (true, true) => "every capability is dropped",
        (true, false) => "a process that is not root starts with none",
        (false, true) => "root gets the bounding set",
        (false, false) => "they are in force whoever runs it",
    }
}

/// The namespace that its ids go through, where that is not the host's own and the same in every possibility.
fn outside(actor: &Actor) -> Option<&UserNamespace> {
    if actor.unmodelled.iter().any(|one| one.touches == Touches::Ids) {
        return None;
    }
    let mut all = actor.identity.possible.iter().map(|(_, identity)| &*identity.namespace);
    let first = all.next().filter(|namespace| !namespace.is_initial())?;
    all.all(|other| other == first).then_some(first)
}

/// What an id is on the host, and the line of the map that says so.
fn on_host(fact: &IdentityFact, namespace: &UserNamespace) -> String {
    let Some(user) = is_user(fact.field) else { return String::new() };
    let map = if user { &namespace.uids } else { &namespace.gids };
    let Ok(id) = fact.value.parse::<u32>() else { return String::new() };
    match (map.forward(id), map.line_of(id)) {
        (Some(outside), Some(line)) => format!("{} (line {line})", in_words(outside)),
        (Some(outside), None) => in_words(outside),
        (None, _) => "no mapping".to_owned(),
    }
}

/// Whether a field is a user's id, or a group's; `None` where it is none.
const fn is_user(field: IdentityField) -> Option<bool> {
    match field {
        IdentityField::Uid | IdentityField::RealUid => Some(true),
        IdentityField::Gid | IdentityField::RealGid | IdentityField::Group => Some(false),
        IdentityField::ImageUser
        | IdentityField::Program
        | IdentityField::Name
        | IdentityField::Bounding
        | IdentityField::Capability
        | IdentityField::Effective
        | IdentityField::Umask
        | IdentityField::NoNewPrivileges
        | IdentityField::UserNamespace
        | IdentityField::Label => None,
    }
}

/// The value of a fact, an id with its name beside it where that is wanted.
pub(super) fn value(fact: &IdentityFact, layout: Layout<'_>) -> String {
    let text = safe(&fact.value);
    is_user(fact.field).map_or_else(|| text.clone(), |user| layout.beside(&text, user))
}

/// What is taken for granted about it, and what is not known.
fn unsettled(out: &mut dyn Write, actor: &Actor, layout: Layout<'_>) -> io::Result<()> {
    for text in &actor.identity.assumptions {
        paragraph(out, &format!("assumed: {}", safe(text)), 2, layout)?;
    }
    for need in &actor.needs {
        let text = format!("not known: {} ({})", safe(&need.unknown.fact), safe(&need.from.to_string()));
        paragraph(out, &paint(OPEN, &text), 2, layout)?;
    }
    for one in &actor.unmodelled {
        let kind = if one.touches == Touches::Trusted { "assumed" } else { "not known" };
        let text = format!("{kind}: {} ({})", safe(&one.unknown.fact), safe(&one.from.to_string()));
        paragraph(out, &paint(OPEN, &text), 2, layout)?;
    }
    Ok(())
}
