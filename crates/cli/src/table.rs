//! Questions about single actors, answered workload by workload.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use mivask_core::act::Subject;
use mivask_core::change::Changes;
use mivask_core::prepare::{HOST, Staging};
use mivask_core::question::{Remark, remarks};
use mivask_core::scene::{Scene, Workload};
use mivask_core::sharing::Sharing;
use mivask_core::stage::{Actor, Stage};
use mivask_disk::process::Reach;
use mivask_read::outline::Outline;
use mivask_show::json::List;
use mivask_show::sides::{Facet, Side};

use crate::change;
use crate::end::{End, Failure};
use crate::load::{Told, choose, outline, print_sides};
use crate::options::{Common, Format};
use crate::reach::Asked;

/// Prints the rows of some actors.
type Printing<'a, R> = &'a dyn Fn(&mut dyn Write, &[R]) -> io::Result<()>;

/// A question about single actors, and how its answers are shown.
pub(crate) struct Table<'a, R> {
    /// Whether it is about files, so that it matters what is known of volumes.
    pub of_files: bool,
    /// The paths that are asked about, for inputs of which not everything is read.
    pub reach: Reach,
    /// The rows about one actor.
    pub ask: &'a dyn Fn(&Stage, &Actor) -> Vec<R>,
    /// What is compared under several runtimes.
    pub facets: &'a dyn Fn(&[R]) -> Vec<Facet>,
    /// Prints for people.
    pub text: Printing<'a, R>,
    /// What is below the last row, for people.
    pub below: &'a dyn Fn(&mut dyn Write) -> io::Result<()>,
    /// The name of the list in the JSON document.
    pub list: &'static str,
    /// Adds to that list.
    pub json: &'a dyn Fn(&mut List<'_>, &[R]) -> io::Result<()>,
}

/// Takes what is to be said of one workload: its remarks, and the rows about its actors.
type Taking<'a, R> = &'a mut dyn FnMut(Vec<Remark>, Vec<R>) -> Result<(), Failure>;

impl<R> Table<'_, R> {
    /// Answers for every actor that is asked about, workload by workload: nothing stays of one but what is printed.
    pub(crate) fn answer(
        &self,
        common: &Common,
        out: &mut dyn Write,
        err: &mut dyn Write,
    ) -> Result<End, Failure> {
        change::check(&common.input.facts.change, err)?;
        let mut asked = Asked::from(self.reach.clone()).about(&common.actor);
        common.actor.iter().for_each(|name| asked.guest(name));
        let mut outline = outline(&common.input, &asked, err)?;
        let changes = change::read(&common.input.facts.change, &outline.scene, err)?;
        change::outline(&changes, &mut outline, err)?;
        // Nothing is printed before it is known who is meant.
        let chosen = Chosen::of(&outline, &common.actor)?;
        let runtimes = &common.input.facts.runtime;
        if runtimes.len() > 1 {
            return self.side_by_side(&mut outline, &changes, &chosen, (common, out));
        }
        choose(&mut outline, runtimes.first().copied())?;
        let mut given = Told::default();
        if common.input.facts.strict {
            self.each((&outline, &changes), &chosen, &mut |remarks, _| given.remarks(remarks, err))?;
            given.refuse(true, err)?;
        }
        match common.format {
            Format::Json => {
                let mut list = List::begin(out, self.list)?;
                self.each((&outline, &changes), &chosen, &mut |remarks, rows| {
                    given.remarks(remarks, err)?;
                    Ok((self.json)(&mut list, &rows)?)
                })?;
                list.end()?;
            }
            Format::Text => {
                let mut first = true;
                self.each((&outline, &changes), &chosen, &mut |remarks, rows| {
                    given.remarks(remarks, err)?;
                    if rows.is_empty() {
                        return Ok(());
                    }
                    if !std::mem::take(&mut first) {
                        writeln!(out)?;
                    }
                    Ok((self.text)(out, &rows)?)
                })?;
                (self.below)(out)?;
            }
        }
        given.refuse(false, err)?;
        Ok(End::Answered)
    }

    fn side_by_side(
        &self,
        outline: &mut Outline,
        changes: &Changes,
        chosen: &Chosen,
        (common, out): (&Common, &mut dyn Write),
    ) -> Result<End, Failure> {
        let mut sides = Vec::new();
        for runtime in &common.input.facts.runtime {
            choose(outline, Some(*runtime))?;
            let mut facets = Vec::new();
            self.each((outline, changes), chosen, &mut |_, rows| {
                facets.extend((self.facets)(&rows));
                Ok(())
            })?;
            sides.push(Side { runtime: runtime.word(), facets });
        }
        print_sides(out, &sides, common.format == Format::Json)
    }

    fn each(&self, given: (&Outline, &Changes), chosen: &Chosen, take: Taking<'_, R>) -> Result<(), Failure> {
        each(given, chosen, &mut |stage, actors, mut remarks| {
            remarks.retain(|remark| self.of_files || !remark.note);
            take(remarks, actors.iter().flat_map(|actor| (self.ask)(stage, actor)).collect())
        })
    }
}

/// The actors that are asked about; nobody named is all of them.
#[derive(Debug)]
pub(crate) struct Chosen {
    /// Their numbers in the scene.
    numbers: BTreeSet<usize>,
    /// Those in the place of others, whose numbers are nobody's.
    guests: Vec<Subject>,
}

impl Chosen {
    /// The actors of these names.
    pub(crate) fn of(outline: &Outline, names: &[String]) -> Result<Self, Failure> {
        let subjects = names.iter().map(|name| Subject::named(name));
        let (guests, own): (Vec<_>, Vec<_>) = subjects.partition(Subject::is_guest);
        let mut places = guests.iter().filter(|guest| guest.actor != HOST);
        places.try_for_each(|guest| outline.actor_names.find(&guest.actor).map(drop))?;
        let numbers = own.iter().map(|own| outline.actor_names.find(&own.actor));
        Ok(Self { numbers: numbers.collect::<Result<_, _>>()?, guests })
    }

    fn is(&self, stage: &Stage, actor: &Actor) -> bool {
        if actor.guest {
            return true;
        }
        let at = stage.actors.iter().position(|other| std::ptr::eq(other, actor));
        let all = self.numbers.is_empty() && self.guests.is_empty();
        all || at.is_some_and(|at| self.numbers.contains(&(stage.first + at)))
    }
}

/// Takes the stage of one workload, those of its actors that are asked about, and the remarks on them.
type Visiting<'a> = &'a mut dyn FnMut(&Stage, &[&Actor], Vec<Remark>) -> Result<(), Failure>;

/// Those of the workloads as they are changed.
fn sharing(outline: &Outline, changes: &Changes) -> Result<Arc<Sharing>, Failure> {
    if changes.is_empty() {
        return Ok(outline.sharing.clone());
    }
    let mut all = Sharing::default();
    change::each_workload(changes, outline, &mut |workload| {
        all.take(workload);
        Ok(())
    })?;
    Ok(Arc::new(all))
}

/// Takes a workload, changed, and its stage.
type OnStage<'a> = &'a mut dyn FnMut(&Arc<Workload>, Stage) -> Result<(), Failure>;

/// Stages workload by workload in the surroundings of `scene`, each with what is changed about it; gives what stages who comes behind them.
pub(crate) fn staged<'a>(
    (outline, changes): (&Outline, &Changes),
    scene: &'a Scene,
    visit: OnStage<'_>,
) -> Result<Staging<'a>, Failure> {
    let mut staging = Staging::new(scene, outline.actor_names.clone(), sharing(outline, changes)?);
    change::each_workload(changes, outline, &mut |workload| {
        let mut stage = staging.next(workload);
        changes.apply_to_files(&mut stage)?;
        visit(workload, stage)
    })?;
    Ok(staging)
}

/// The actors that are asked about, workload by workload.
pub(crate) fn each(
    (outline, changes): (&Outline, &Changes),
    chosen: &Chosen,
    visit: Visiting<'_>,
) -> Result<(), Failure> {
    let scene = &outline.scene;
    let mut staging = staged((outline, changes), scene, &mut |workload, stage| {
        let stage = &stage;
        let wanted = |actor: &Actor| chosen.is(stage, actor);
        let remarks = remarks(scene, std::slice::from_ref(workload), stage, &wanted);
        let actors: Vec<&Actor> = stage.actors.iter().filter(|actor| wanted(actor)).collect();
        visit(stage, &actors, remarks)
    })?;
    // Who is on the host is in no workload.
    let stage = staging.on_host();
    let actors: Vec<&Actor> = stage.actors.iter().collect();
    if actors.is_empty() { Ok(()) } else { visit(&stage, &actors, Vec::new()) }
}
