//! `remedy`: the smallest changes that let an act succeed.

mod apply;
mod build;
mod moved;
pub(super) mod paste;
mod tree;
mod unmet;

use std::io::Write;
use std::path::PathBuf;

use mivask_core::act::{Act, quoted, split};
use mivask_core::expect::Expected;
use mivask_core::exposure::{Limit, LimitError};
use mivask_core::glob::is_pattern;
use mivask_core::question::facts_at;
use mivask_core::remedy::{
    MOST_ACTS, Made, MadeError, Remedies, Remedy, Situation, lasting, narrowings, remedies, together,
};
use mivask_read::patch::MergeError;
use mivask_show::remedy::Written;
use mivask_show::{json, shell, text};

use crate::acts::{gather, only};
use crate::change::Patterns;
use crate::commands::uphold::check::{named, of_files, own_expectations};
use crate::commands::uphold::error::UpholdError;
use crate::end::{CommandError, End, Failure};
use crate::load::{Whole, layout};
use crate::logged::Logged;
use crate::options::{Acting, Format, Input};
use crate::output;
use crate::plain;
use crate::reach::Asked;
use crate::terminal;

/// The smallest changes that make a denied act succeed.
///
/// Each is applied to the model and checked again with the whole walk; they are ranked by what else they open.
///
/// Every kind of change is tried: the process's identity, mode, owner, group and ACL on the fewest inodes, mount
/// options, a volume of its own, what the image's build leaves behind. Never 777, and a broad capability last. With
/// an expectation of the new file (`-> leaves 7101:7300 0664`), what achieves it. Descriptions are changed by a
/// patch, files by commands.
///
/// In place of an act, a limit: 'PATH at-most 0600 [owned-by UID[:GID]]' is what makes a key or a data directory as
/// narrow as its program wants it, and keeps the filesystem group from widening it again.
///
/// Or what is handed over: 'READER VERB what MAKER makes in DIRECTORY' is about the maker's next file, which no chmod of
/// today's reaches: the maker's umask, a group that the directory hands down, a default ACL, one user for both.
///
/// Or a line of a log with --actor, such as 'open /data/x: permission denied': the first act of the kind that ends with that
/// error here.
///
/// Or an act on a whole tree, 'store reads /blobs/**': what helps all of it, and how much each change reaches.
///
/// Or the acts of a file, with --acts, or all that `uphold` finds refused, with --unmet: one set of changes for all of them, of
/// which nothing can be left out.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask remedy tides.scene.yaml 'herald creates /publish/today.svg'\n  mivask remedy pod.yaml 'gauge creates /tmp/x' --apply-to pod.fixed.yaml\n  mivask remedy pod.yaml '/keys/id_ed25519 at-most 0600'\n  mivask remedy pod.yaml 'press reads what gauge makes in /data'\n  mivask remedy pod.yaml --acts release.acts --script fix.sh\n  mivask remedy tides.scene.yaml --unmet\n  mivask remedy tides.scene.yaml 'herald reads /data/**'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    input: Input,
    #[command(flatten)]
    who: Acting,
    /// The act, the limit or the hand-over, a single argument.
    #[arg(required_unless_present_any = ["file", "unmet"])]
    act: Option<String>,
    /// A file of acts, one per line, for which one set of changes is looked for; `-` is standard input.
    #[arg(long = "acts", value_name = "FILE", conflicts_with = "act")]
    file: Option<PathBuf>,
    /// One set of changes for all that is expected to be possible and is not, as `uphold` finds it.
    #[arg(long, conflicts_with_all = ["act", "file"])]
    unmet: bool,
    /// A file of expectations, beside those of the scene: each that holds now is kept where anything keeps it. May be repeated.
    #[arg(long, value_name = "FILE")]
    expect: Vec<PathBuf>,
    /// How many to show.
    #[arg(long, value_name = "N", default_value_t = 5)]
    most: usize,
    /// Write the description or build file with a remedy applied to this file; where several change, to this folder.
    #[arg(long, value_name = "PATH")]
    apply_to: Option<PathBuf>,
    /// Write what changes in Kubernetes objects to this file, as a strategic merge patch for manifests that are not edited.
    #[arg(long, value_name = "FILE")]
    merge_patch: Option<PathBuf>,
    /// Write the commands of a remedy to this file, as a shell script that looks before it changes and may run twice.
    #[arg(long, value_name = "FILE")]
    script: Option<PathBuf>,
    /// Which remedy to write with --apply-to, --merge-patch and --script.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pick: usize,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

/// Why the remedy that was picked is not written.
#[derive(Debug, thiserror::Error)]
enum RemedyError {
    /// There is no such remedy.
    #[error("there is no remedy {pick}: {found} were found")]
    NoRemedy {
        /// The one that was asked for.
        pick: usize,
        /// How many there are.
        found: usize,
    },
    /// A limit of many paths.
    #[error("`{0}` stands for several paths: name one, since each may need another remedy")]
    Several(String),
    /// There are too many acts.
    #[error("{0} acts are too many for one set of changes: give at most {MOST_ACTS}")]
    Many(usize),
    /// It changes several files.
    #[error("it changes {0} files: name a folder for them, one that is there")]
    SeveralFiles(usize),
    /// Two of them have one name.
    #[error("two files of it are called {0}: apply the patches that are printed")]
    OneName(String),
    /// What it changes is no object.
    #[error("remedy {pick}: {error}")]
    NoMerge {
        /// The remedy that was picked.
        pick: usize,
        /// Why not.
        error: MergeError,
    },
    /// It changes no file.
    #[error("remedy {0} changes no file outside of an image and a server, so there is no script to write")]
    NotOnDisk(usize),
    /// It changes no description.
    #[error(
        "remedy {0} changes files or what no field of the description takes, so there is nothing to write"
    )]
    NotInDescription(usize),
}

impl CommandError for RemedyError {}

impl CommandError for LimitError {}

impl CommandError for MadeError {}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    if args.input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("remedy"));
    }
    let Some(sentence) = &args.act else { return all_at_once(args, out, err) };
    if let Some(limit) = limit(sentence) {
        return narrowed(args, &limit?, out, err);
    }
    if let Some(made) = Made::parse(sentence, args.who.actor.first().map(String::as_str)) {
        return handed_over(args, &made?, out, err);
    }
    if let Some(logged) = Logged::of(sentence, &args.who.actor) {
        let logged = logged?;
        let acts: Vec<String> = logged.acts().collect();
        let whole = Whole::read(&args.input, &Asked::of(&acts).about(&args.who.actor).whole(), err)?;
        let sentence = logged.choose(&whole.stage, err)?;
        return mended(args, whole, &sentence, out, err);
    }
    let sentence = plain::spoken(&args.input, &args.who.actor, std::slice::from_ref(sentence));
    let asked = Asked::of(&sentence).about(&args.who.actor).whole();
    let sentence = sentence.concat();
    let whole = Whole::read(&args.input, &asked, err)?;
    let sentence = whole.numbered(&[sentence]).concat();
    mended(args, whole, &sentence, out, err)
}

/// What lets the act of a sentence succeed.
fn mended(
    args: &Args,
    mut whole: Whole,
    sentence: &str,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<End, Failure> {
    let act = only(sentence, &whole.stage, err)?;
    if is_tree(&whole, &act) {
        return tree::mended(args, whole, &act, out, err);
    }
    // Changes are tried on stages of their own; of a large scene this one is large.
    drop(std::mem::take(&mut whole.stage));
    let own = expected(args, &whole, err)?;
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let working = terminal::working(WORKING);
    let found = remedies(&situation, &act)?;
    drop(working);
    told(args, &situation, (&found, &[act]), out, err)
}

/// Whether an act is about what a pattern matches: a name may hold such a character.
fn is_tree(whole: &Whole, act: &Act) -> bool {
    let literally =
        whole.stage.actor(&act.actor).is_ok_and(|actor| facts_at(&whole.stage, actor, &act.path).is_some());
    is_pattern(&act.path) && !literally
}

const WORKING: &str = "trying changes, and comparing what each lets and keeps out";

/// What the scene and the files of the command line expect.
fn expected(args: &Args, whole: &Whole, err: &mut dyn Write) -> Result<Vec<Expected>, Failure> {
    let mut own = own_expectations(whole)?;
    own.extend(named(whole, &of_files(&args.expect, err)?)?);
    Ok(own)
}

/// The limit that a sentence is, where it is one.
fn limit(sentence: &str) -> Option<Result<Limit, Failure>> {
    let words = split(sentence).ok()?;
    words.iter().any(|word| word.text == b"at-most").then(|| {
        let limit: Limit = sentence.parse()?;
        if is_pattern(&limit.path) {
            return Err(RemedyError::Several(quoted(&limit.path)).into());
        }
        Ok(limit)
    })
}

/// What makes a path as narrow as a limit asks.
fn narrowed(args: &Args, limit: &Limit, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let asked = Asked::default().about(&args.who.actor).whole();
    let mut whole = Whole::read(&args.input, &asked, err)?;
    drop(std::mem::take(&mut whole.stage));
    let mut limit = limit.clone();
    limit.actor = limit.actor.or_else(|| args.who.actor.first().cloned());
    let own = expected(args, &whole, err)?;
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let working = terminal::working(WORKING);
    let found =
        narrowings(&Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns), &limit)?;
    drop(working);
    told(args, &situation, (&found, &[]), out, err)
}

/// What lets somebody use what another one makes.
fn handed_over(args: &Args, made: &Made, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut whole = Whole::read(&args.input, &Asked::default().whole(), err)?;
    drop(std::mem::take(&mut whole.stage));
    let own = expected(args, &whole, err)?;
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let working = terminal::working(WORKING);
    let found = lasting(&situation, made)?;
    drop(working);
    told(args, &situation, (&found, &[]), out, err)
}

/// One set of changes for the acts of a file.
fn all_at_once(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut whole = Whole::read(&args.input, &Asked::default().whole(), err)?;
    let own = expected(args, &whole, err)?;
    let acts = if args.unmet {
        if own.is_empty() {
            return Err(UpholdError::NothingExpected.into());
        }
        unmet::acts(&whole, &own, err)?
    } else {
        let files: Vec<PathBuf> = args.file.iter().cloned().collect();
        gather(&args.input, &[], &files, (&whole.stage, &whole.names()), err)?
    };
    if acts.len() > MOST_ACTS {
        return Err(RemedyError::Many(acts.len()).into());
    }
    drop(std::mem::take(&mut whole.stage));
    let situation = Situation::new(whole.scene(), &whole.changes).expecting(&own, &Patterns);
    let working = terminal::working(WORKING);
    let found = together(&situation, &acts)?;
    drop(working);
    let is_left = |act: &Act| found.left.iter().any(|(left, _)| left.act == *act);
    let mended: Vec<Act> = acts.iter().filter(|act| !is_left(act)).cloned().collect();
    let mut texts = paste::Texts::new(&situation);
    let written = found.remedy.as_ref().map(|one| texts.written(one, &mended)).unwrap_or_default();
    match args.format {
        Format::Text => text::together(out, &found, &written, layout())?,
        Format::Json => json::together(out, &found, &written)?,
    }
    written_where_asked(args, found.remedy.as_slice(), &[written], err)?;
    Ok(End::Answered)
}

/// Prints what was found, and writes the one that was picked; `acts` succeed after each.
fn told(
    args: &Args,
    situation: &Situation<'_>,
    (found, acts): (&Remedies, &[Act]),
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<End, Failure> {
    let mut texts = paste::Texts::new(situation);
    let written: Vec<Written> = found.remedies.iter().map(|remedy| texts.written(remedy, acts)).collect();
    match args.format {
        Format::Text => text::remedies(out, found, &written, args.most, layout())?,
        Format::Json => json::remedies(out, found, &written)?,
    }
    written_where_asked(args, &found.remedies, &written, err)?;
    Ok(End::Answered)
}

/// Writes the remedy that was picked into the files that were asked for.
fn written_where_asked(
    args: &Args,
    found: &[Remedy],
    written: &[Written],
    err: &mut dyn Write,
) -> Result<(), Failure> {
    if args.apply_to.is_none() && args.merge_patch.is_none() && args.script.is_none() {
        return Ok(());
    }
    let picked = args.pick.checked_sub(1).and_then(|at| found.get(at).zip(written.get(at)));
    let (remedy, written) = picked.ok_or(RemedyError::NoRemedy { pick: args.pick, found: found.len() })?;
    if let Some(path) = &args.apply_to {
        apply::apply((args.pick, remedy), written, path, err)?;
    }
    if let Some(path) = &args.merge_patch {
        apply::merged(args.pick, written, path, err)?;
    }
    let Some(path) = &args.script else { return Ok(()) };
    let text = shell::script(remedy).ok_or(RemedyError::NotOnDisk(args.pick))?;
    output::replace(path, |file| Ok(file.write_all(text.as_bytes())?))?;
    let path = mivask_show::safe(&path.display().to_string());
    writeln!(err, "note: the commands of remedy {} are written to {path}: sh {path}", args.pick)?;
    Ok(())
}
