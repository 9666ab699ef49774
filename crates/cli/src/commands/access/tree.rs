//! `access --tree`: whole volumes, summed up or row by row.

use std::io::{self, Write};

use mivask_core::mount::{MountOrigin, MountTable};
use mivask_core::question::{Overview, SweepError, Swept, facts_of, overview, summed};
use mivask_core::stage::{Actor, Stage};
use mivask_disk::process::Reach;
use mivask_show::json::{self, List};
use mivask_show::text;

use super::Args;
use super::wanted::Filter;
use crate::change;
use crate::end::{End, Failure};
use crate::load::{Told, choose, layout, outline};
use crate::options::Format;
use crate::reach::Asked;
use crate::table::{Chosen, each};

pub(super) fn run(
    args: &Args,
    paths: &[Vec<u8>],
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<End, Failure> {
    let filter = Filter::new(&args.matching, &args.conditions)?;
    let input = &args.common.input;
    if input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("--tree"));
    }
    change::check(&input.facts.change, err)?;
    let mut outline = outline(
        input,
        &Asked::from(Reach { paths: paths.to_vec(), whole: true }).about(&args.common.actor),
        err,
    )?;
    let changes = change::read(&input.facts.change, &outline.scene, err)?;
    change::outline(&changes, &mut outline, err)?;
    let chosen = Chosen::of(&outline, &args.common.actor)?;
    choose(&mut outline, input.facts.runtime.first().copied())?;
    let mut given = Told::default();
    let mut telling = Telling::begin(args, out)?;
    each((&outline, &changes), &chosen, &mut |stage, actors, remarks| {
        given.remarks(remarks, err)?;
        for actor in actors {
            for start in starts(actor, paths) {
                // One that may be several is asked about as each of them.
                for which in 0..actor.credentials.len().max(1) {
                    telling.tree(stage, actor, which, &start, &filter, err)?;
                }
            }
        }
        Ok(())
    })?;
    given.refuse(input.facts.strict, err)?;
    telling.end(err)?;
    Ok(End::Answered)
}

/// Where to begin: the paths that were named, or each mount that the description asks for and that is in no other.
fn starts(actor: &Actor, paths: &[Vec<u8>]) -> Vec<Vec<u8>> {
    if !paths.is_empty() {
        return paths.to_vec();
    }
    let declared = actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared);
    let mut starts: Vec<Vec<u8>> = declared.map(|(_, mount)| mount.facts.at.to_vec()).collect();
    starts.sort();
    starts.dedup();
    let mut outer: Vec<Vec<u8>> = Vec::new();
    for start in starts {
        if !outer.iter().any(|above| start.strip_prefix(above.as_slice()).is_some_and(|rest| rest[0] == b'/'))
        {
            outer.push(start);
        }
    }
    if outer.is_empty() {
        outer.push(actor.mounts.get(MountTable::ROOT).facts.at.to_vec());
    }
    outer
}

/// Without the directories in the way, where only a part was picked: they are in the way of everything.
fn picked<'f>(found: &'f mut Overview, filter: &Filter<'_>) -> &'f Overview {
    if !filter.is_open() {
        found.blockers = Vec::new();
        found.blocking = 0;
    }
    found
}

/// The actor's name, with what must hold for it where it may be several.
fn name(actor: &Actor, which: usize) -> String {
    match actor.identity.possible.get(which) {
        Some((when, _)) if !when.is_empty() => format!("{}, if {when}", actor.name),
        _ => actor.name.to_string(),
    }
}

/// What is printed, in which form.
enum Telling<'o> {
    Sums {
        out: &'o mut dyn Write,
        first: bool,
    },
    /// `untitled`: no row of this tree was printed yet.
    Rows {
        out: &'o mut dyn Write,
        first: bool,
        untitled: bool,
        /// Whether something that was printed is only usual.
        usual: bool,
        layout: text::Layout<'static>,
    },
    JsonSums(List<'o>),
    JsonRows(List<'o>),
}

impl<'o> Telling<'o> {
    fn begin(args: &Args, out: &'o mut dyn Write) -> io::Result<Self> {
        Ok(match (args.common.format, args.list) {
            (Format::Text, false) => Self::Sums { out, first: true },
            (Format::Text, true) => {
                Self::Rows { out, first: true, untitled: true, usual: false, layout: layout() }
            }
            (Format::Json, false) => Self::JsonSums(List::begin(out, "trees")?),
            (Format::Json, true) => Self::JsonRows(List::begin(out, "rows")?),
        })
    }

    fn tree(
        &mut self,
        stage: &Stage,
        actor: &Actor,
        which: usize,
        start: &[u8],
        filter: &Filter<'_>,
        err: &mut dyn Write,
    ) -> Result<(), Failure> {
        self.begin_tree()?;
        let mut ended = Ok(());
        let found = if matches!(self, Self::Sums { .. } | Self::JsonSums(_)) && !filter.goes_by_paths() {
            summed(stage, actor, which, start, |swept| filter.wants(swept))
        } else {
            overview(
                stage,
                actor,
                which,
                start,
                |swept| filter.is_open() || filter.wants(swept),
                |swept| {
                    if ended.is_ok() {
                        ended = self.row(stage, actor, (which, start), swept);
                    }
                },
            )
        };
        ended?;
        match found {
            Ok(mut found) => match self {
                Self::Sums { out, .. } => text::overview(*out, picked(&mut found, filter), layout())?,
                Self::JsonSums(list) => json::overview(list, picked(&mut found, filter))?,
                Self::Rows { .. } | Self::JsonRows(_) => {}
            },
            Err(error) => self.without(actor, start, &error, err)?,
        }
        Ok(())
    }

    fn begin_tree(&mut self) -> io::Result<()> {
        match self {
            Self::Sums { out, first } => {
                if std::mem::take(first) {
                    Ok(())
                } else {
                    writeln!(out)
                }
            }
            Self::Rows { untitled, .. } => {
                *untitled = true;
                Ok(())
            }
            Self::JsonSums(_) | Self::JsonRows(_) => Ok(()),
        }
    }

    fn row(
        &mut self,
        stage: &Stage,
        actor: &Actor,
        (which, start): (usize, &[u8]),
        swept: &Swept<'_>,
    ) -> io::Result<()> {
        let facts = || facts_of(stage, actor, swept.place);
        match self {
            Self::Rows { out, first, untitled, usual, layout } => {
                *usual |= swept.endings.iter().any(|(_, ending)| ending.usual.is_some());
                if std::mem::take(untitled) {
                    if !std::mem::take(first) {
                        writeln!(out)?;
                    }
                    text::swept_titles(*out, &name(actor, which), start)?;
                }
                text::swept(*out, swept, facts().as_ref(), layout.of(&actor.name))
            }
            Self::JsonRows(list) => json::swept(list, &name(actor, which), swept, facts().as_ref()),
            Self::Sums { .. } | Self::JsonSums(_) => Ok(()),
        }
    }

    /// There is nothing to sum up.
    fn without(
        &self,
        actor: &Actor,
        start: &[u8],
        error: &SweepError,
        err: &mut dyn Write,
    ) -> io::Result<()> {
        let name = mivask_show::safe(&actor.name);
        let path = mivask_core::act::quoted(start);
        match error {
            SweepError::Actor => {
                let reason = actor.refusal().map_or("", |refusal| refusal.reason.as_str());
                writeln!(err, "note: {name} never runs: {}", mivask_show::safe(reason))
            }
            SweepError::Start(errno) => writeln!(err, "note: {name} has nothing known at {path}: {errno}"),
        }
    }

    fn end(self, err: &mut dyn Write) -> io::Result<()> {
        match self {
            Self::Rows { first: true, .. } => writeln!(err, "note: no entry is like that"),
            Self::Rows { out, usual: true, .. } => text::swept_key(out, layout()),
            Self::Sums { .. } | Self::Rows { .. } => Ok(()),
            Self::JsonSums(list) | Self::JsonRows(list) => list.end(),
        }
    }
}
