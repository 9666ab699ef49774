//! Who can do what with what someone else creates.

use std::collections::BTreeMap;
use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::handoff::{Creation, Handoff, LeftOut, MOST_MEMBERS, PerUse, Use};
use mivask_core::listed::listed;
use mivask_core::question::Why;
use mivask_core::settle::Outcome;

use super::{Layout, assumptions, imprint, paragraph};
use crate::layout::Counted;
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, OPEN, STRONG, USUAL_MARK, paint, usual_or};
use crate::table::Table;
use crate::words::use_letter;

/// A matrix for each shared directory, then why not.
///
/// # Errors
/// Whatever `out` refuses.
pub fn handoffs(out: &mut dyn Write, all: &[Handoff], layout: Layout<'_>) -> io::Result<()> {
    if all.is_empty() {
        return writeln!(out, "No directory is known to be shared by two containers.");
    }
    let out = &mut Counted::new(out);
    for (number, handoff) in all.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        one(out, handoff, layout)?;
    }
    writeln!(out)?;
    let key = "r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.";
    let is_usual = all.iter().any(|handoff| !handoff.rests_on.is_empty());
    let mark = if is_usual { format!(" {USUAL_MARK}: usually so.") } else { String::new() };
    paragraph(out, &format!("{key}{mark}"), 0, layout)?;
    let taken = all.iter().flat_map(|handoff| &handoff.assumptions).collect();
    assumptions(out, &taken, layout)
}

fn one(out: &mut dyn Write, handoff: &Handoff, layout: Layout<'_>) -> io::Result<()> {
    let place = match handoff.directory.as_slice() {
        b"/" => safe(&handoff.source),
        below => format!("{}, {}", safe(&handoff.source), quoted(below)),
    };
    let mut places: BTreeMap<&[u8], Vec<&str>> = BTreeMap::new();
    for (name, path) in &handoff.members {
        places.entry(path).or_default().push(name);
    }
    let seen: Vec<String> =
        places.iter().map(|(path, names)| format!("{} in {}", quoted(path), safe(&listed(names)))).collect();
    writeln!(out, "{}  {}", paint(STRONG, &place), paint(FAINT, &seen.join("; ")))?;
    for text in left_out(handoff) {
        paragraph(out, &paint(OPEN, &text), 2, layout)?;
    }
    let names: Vec<String> = handoff.members.iter().map(|(name, _)| safe(name)).collect();
    let mut titles = vec!["creator", "new file"];
    titles.extend(names.iter().map(String::as_str));
    let mut table = Table::new(&titles);
    for creation in &handoff.creations {
        table.row_of(&creation.creator, row(handoff, creation));
    }
    write!(out, "{}", table.render(layout))?;
    if !handoff.rests_on.is_empty() {
        let facts: Vec<String> = handoff.rests_on.iter().map(|usual| safe(&usual.says)).collect();
        writeln!(out)?;
        paragraph(out, &format!("as usual: {}", facts.join("; ")), 2, layout)?;
    }
    reasons(out, handoff, layout)
}

/// Who is not compared, where very many share the directory.
fn left_out(handoff: &Handoff) -> Vec<String> {
    let LeftOut { alike, others } = handoff.left_out;
    let mut texts = Vec::new();
    if alike > 0 {
        texts.push(format!("{alike} more reach it with the ids, capabilities, image and path of one below"));
    }
    if others > 0 {
        texts.push(format!("{others} more reach it and are not compared: {MOST_MEMBERS} are at most"));
    }
    texts
}

fn row(handoff: &Handoff, creation: &Creation) -> Vec<String> {
    let usual = creation.usually.as_ref().and_then(|usual| usual.file.as_ref());
    let leaves = match (&creation.file, &creation.creates.outcome, usual) {
        (Some(left), Outcome::Allowed, _) => imprint(left),
        (_, _, Some(left)) => format!("{}{}", paint(OPEN, USUAL_MARK), imprint(left)),
        (_, outcome, None) => {
            let usually = creation.creates.usually.as_ref().map(|usually| &usually.outcome);
            usual_or(usually, outcome)
        }
    };
    let mut cells = vec![safe(&creation.creator), leaves];
    for (name, _) in &handoff.members {
        let consumer = creation.consumers.iter().find(|one| one.consumer == *name);
        cells.push(match consumer {
            None => paint(FAINT, "."),
            Some(one) if one.file.is_none() && one.nested.is_none() => String::new(),
            Some(one) => format!("{}/{}", letters(one.file.as_ref()), letters(one.nested.as_ref())),
        });
    }
    cells
}

/// `rcdp`, with `-` and `?` where not; what is only usual is behind a mark, one where all of it is.
fn letters(uses: Option<&PerUse>) -> String {
    let Some(uses) = uses else { return String::new() };
    let all = uses.iter().all(|(_, ended)| ended.usually.is_some());
    let mut letters = if all { paint(OPEN, USUAL_MARK) } else { String::new() };
    for (wanted, ended) in uses.iter() {
        let (mark, good, bad) = match (ended.usually.is_some(), all) {
            (true, true) => ("", OPEN, OPEN),
            (true, false) => (USUAL_MARK, OPEN, OPEN),
            (false, _) => ("", GOOD, BAD),
        };
        letters.push_str(&match ended.certain_or_usual().outcome {
            Outcome::Allowed => paint(good, &format!("{mark}{}", use_letter(wanted))),
            Outcome::Denied(_) | Outcome::NeverRuns(_) => paint(bad, &format!("{mark}-")),
            Outcome::Depends => paint(OPEN, "?"),
        });
    }
    letters
}

/// What someone cannot do, to whose files, and the fact that decides, with one path as the example.
struct Reason {
    who: String,
    fact: String,
    cannot: Vec<&'static str>,
    made_by: Vec<String>,
    path: Option<Vec<u8>>,
}

/// Why not: each fact once for each actor.
fn reasons(out: &mut dyn Write, handoff: &Handoff, layout: Layout<'_>) -> io::Result<()> {
    let mut all: Vec<Reason> = Vec::new();
    for creation in &handoff.creations {
        if let Some(why) = &creation.creates.certain_or_usual().why {
            note(&mut all, &creation.creator, "create", None, why);
        }
        for one in &creation.consumers {
            for (wanted, ended) in one.file.iter().chain(&one.nested).flat_map(PerUse::iter) {
                if let Some(why) = &ended.certain_or_usual().why {
                    note(&mut all, &one.consumer, wanted.word(), Some(&creation.creator), why);
                }
            }
        }
    }
    if all.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(&["actor", "cannot", "files of", "because"]);
    for reason in all {
        let path = reason.path.map_or_else(String::new, |path| format!(" ({})", quoted(&path)));
        let because = format!("{}{}", safe(&reason.fact), paint(FAINT, &path));
        let cells =
            vec![safe(&reason.who), reason.cannot.join(" "), safe(&reason.made_by.join(" ")), because];
        table.row_of(&reason.who, cells);
    }
    writeln!(out)?;
    write!(out, "{}", table.render(layout))?;
    match to_mend(handoff) {
        Some(sentence) => paragraph(
            out,
            &paint(FAINT, &format!("what would help: mivask remedy INPUT '{sentence}'")),
            2,
            layout,
        ),
        None => Ok(()),
    }
}

/// The first thing that somebody cannot do with another's file, as `remedy` takes it.
fn to_mend(handoff: &Handoff) -> Option<String> {
    let verb = |wanted| match wanted {
        Use::Read => Some("reads"),
        Use::Change => Some("writes"),
        Use::Delete | Use::Replace => None,
    };
    handoff.creations.iter().find_map(|creation| {
        let (_, directory) = handoff.members.iter().find(|(name, _)| *name == creation.creator)?;
        creation.consumers.iter().find_map(|one| {
            let denied = one.file.iter().flat_map(PerUse::iter);
            let mut denied =
                denied.filter(|(_, ended)| matches!(ended.certain_or_usual().outcome, Outcome::Denied(_)));
            let verb = denied.find_map(|(wanted, _)| verb(wanted))?;
            let (reader, maker) = (safe(&one.consumer), safe(&creation.creator));
            Some(format!("{reader} {verb} what {maker} makes in {}", quoted(directory)))
        })
    })
}

fn note(all: &mut Vec<Reason>, who: &str, cannot: &'static str, made_by: Option<&str>, why: &Why) {
    let same = |reason: &Reason| reason.who == who && reason.fact == why.fact;
    let reason = match all.iter().position(same) {
        Some(at) => &mut all[at],
        None => {
            let who = who.to_owned();
            let fact = why.fact.clone();
            let path = why.path.clone();
            all.push(Reason { who, fact, cannot: Vec::new(), made_by: Vec::new(), path });
            let last = all.len() - 1;
            &mut all[last]
        }
    };
    if !reason.cannot.contains(&cannot) {
        reason.cannot.push(cannot);
    }
    if let Some(name) = made_by.filter(|name| !reason.made_by.iter().any(|known| known == name)) {
        reason.made_by.push(name.to_owned());
    }
}
