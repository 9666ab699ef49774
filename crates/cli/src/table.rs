//! Questions about single actors, answered workload by workload.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::sync::Arc;

use mivask_core::change::Changes;
use mivask_core::prepare::Staging;
use mivask_core::question::{Remark, remarks};
use mivask_core::sharing::Sharing;
use mivask_core::stage::{Actor, Stage};
use mivask_disk::process::Reach;
use mivask_read::outline::Outline;
use mivask_show::json::List;
use mivask_show::sides::{Facet, Side};

use crate::change;
use crate::end::{End, Failure};
use crate::inputs::Files;
use crate::load::{Told, choose, outline, print_sides};
use crate::options::{Common, Format};

/// Prints the rows of some actors.
type Printing<'a, R> = &'a dyn Fn(&mut dyn Write, &[R]) -> io::Result<()>;

/// A question about single actors, and how its answers are shown.
pub(crate) struct Table<'a, R> {
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
        let changes = change::read(&common.input.facts.change, err)?;
        let mut outline = outline(&common.input, &self.reach, err)?;
        change::outline(&changes, &mut outline, err)?;
        // Nothing is printed before it is known who is meant.
        let chosen = chosen(&outline, &common.actor)?;
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
        chosen: &BTreeSet<usize>,
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

    fn each(
        &self,
        given: (&Outline, &Changes),
        chosen: &BTreeSet<usize>,
        take: Taking<'_, R>,
    ) -> Result<(), Failure> {
        each(given, chosen, &mut |stage, actors, remarks| {
            take(remarks, actors.iter().flat_map(|actor| (self.ask)(stage, actor)).collect())
        })
    }
}

/// The numbers of the actors that are asked about; none for all.
pub(crate) fn chosen(outline: &Outline, names: &[String]) -> Result<BTreeSet<usize>, Failure> {
    let found = names.iter().map(|name| outline.actor_names.find(name));
    Ok(found.collect::<Result<_, _>>()?)
}

/// Takes the stage of one workload, those of its actors that are asked about, and the remarks on them.
type Visiting<'a> = &'a mut dyn FnMut(&Stage, &[&Actor], Vec<Remark>) -> Result<(), Failure>;

/// Those of the workloads as they are changed.
fn sharing(outline: &Outline, changes: &Changes) -> Result<Arc<Sharing>, Failure> {
    if changes.is_empty() {
        return Ok(outline.sharing.clone());
    }
    let mut all = Sharing::default();
    outline.each(&Files::default(), &mut |given| {
        let mut changed = given.clone();
        changes.apply_to_workload(&mut changed)?;
        all.take(&changed);
        Ok::<(), Failure>(())
    })?;
    Ok(Arc::new(all))
}

/// Stages workload by workload, each with what is changed about it.
pub(crate) fn each(
    (outline, changes): (&Outline, &Changes),
    chosen: &BTreeSet<usize>,
    visit: Visiting<'_>,
) -> Result<(), Failure> {
    let scene = &outline.scene;
    let mut staging = Staging::new(scene, outline.actor_names.clone(), sharing(outline, changes)?);
    outline.each(&Files::default(), &mut |given| {
        let mut workload = given.clone();
        changes.apply_to_workload(&mut workload)?;
        let mut stage = staging.next(&workload);
        changes.apply_to_files(&mut stage)?;
        let number = |actor: &Actor| stage.actors.iter().position(|other| std::ptr::eq(other, actor));
        let wanted = |actor: &Actor| {
            chosen.is_empty() || number(actor).is_some_and(|at| chosen.contains(&(stage.first + at)))
        };
        let remarks = remarks(scene, std::slice::from_ref(&workload), &stage, &wanted);
        let actors: Vec<&Actor> = stage.actors.iter().filter(|actor| wanted(actor)).collect();
        visit(&stage, &actors, remarks)
    })
}
