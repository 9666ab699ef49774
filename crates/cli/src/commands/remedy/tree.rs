//! An act on everything that a pattern matches.

use std::io::Write;

use mivask_core::act::Act;
use mivask_core::remedy::{Remedy, Situation, TreeError, over_tree};
use mivask_show::remedy::Written;
use mivask_show::{json, text};

use super::{Args, WORKING, expected, paste, written_where_asked};
use crate::change::Patterns;
use crate::end::{CommandError, End, Failure};
use crate::load::{Whole, layout};
use crate::options::Format;
use crate::terminal;

impl CommandError for TreeError {}

/// What lets an act succeed on a whole tree, and how much of it each change reaches.
pub(super) fn mended(
    args: &Args,
    mut whole: Whole,
    act: &Act,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<End, Failure> {
    let own = expected(args, &whole, err)?;
    drop(std::mem::take(&mut whole.stage));
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let working = terminal::working(WORKING);
    let found = over_tree(&situation, act)?;
    drop(working);
    let mut texts = paste::Texts::new(&situation);
    let remedies: Vec<Remedy> = found.remedies.iter().map(|(remedy, _)| remedy.clone()).collect();
    let written: Vec<Written> = remedies.iter().map(|remedy| texts.written(remedy, &[])).collect();
    match args.format {
        Format::Text => text::over_tree(out, &found, &written, args.most, layout())?,
        Format::Json => json::over_tree(out, &found, &written)?,
    }
    written_where_asked(args, &remedies, &written, err)?;
    Ok(End::Answered)
}
