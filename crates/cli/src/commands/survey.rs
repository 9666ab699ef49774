//! `survey`: records on-disk facts in a file.

use std::io::{self, IsTerminal, Write};
use std::path::{Component, Path, PathBuf};

use base64::prelude::BASE64_STANDARD as STANDARD;
use base64::write::EncoderWriter;
use clap::ValueEnum;
use mivask_core::act::quoted;
use mivask_disk::dataset::{self, NameError};
use mivask_disk::export::{self, Format};
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::live::{self, MOST_ENTRIES, Options, PATIENCE, Watch};
use mivask_disk::source::{self, is_directory};
use mivask_disk::survey;
use mivask_show::text;

use crate::end::{CommandError, End, Failure};
use crate::sources::{self, gather};
use crate::{images, output, terminal};

/// Records who owns what on a disk, in an image or an archive, in a small file.
///
/// A survey is a small file that scenes name as `tree:`: take it where the disk is, ask anywhere. Entries that
/// vanish or cannot be read are recorded as unknown and counted; the exit status is then 1.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example: mivask survey /srv/readings -o readings.survey")]
pub(crate) struct Args {
    /// A directory, a survey, an archive, the layers of an image, or a listing; or an image where it is: `registry:NAME`
    /// (`registry:http://HOST/NAME` without TLS), `docker:NAME`, `podman:NAME`.
    #[arg(required_unless_present = "kept")]
    source: Option<PathBuf>,
    /// List what is kept of images that were looked for, and where; each is a survey itself.
    #[arg(long, exclusive = true)]
    kept: bool,
    /// The file to write; by default standard output, unless that is a terminal.
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Another format than the survey's own, for other tools.
    #[arg(long, value_name = "FORMAT")]
    to: Option<To>,
    /// The volume's name in the dataset.
    #[arg(long, value_name = "NAME")]
    volume: Option<String>,
    /// The day in the dataset, YYYY-MM-DD; by default today's in UTC.
    #[arg(long, value_name = "DATE", requires = "volume")]
    date: Option<String>,
    /// Which image of several, such as `tides/gauge:3`.
    #[arg(long, value_name = "NAME")]
    reference: Option<String>,
    /// Which platform of a multi-platform image, such as `linux/arm64`; by default this machine's.
    #[arg(long, value_name = "OS/ARCHITECTURE")]
    platform: Option<String>,
    /// Also record file systems mounted below the directory.
    #[arg(long)]
    across_mounts: bool,
    /// Also record file sizes.
    #[arg(long)]
    sizes: bool,
    /// A directory below the source that is not looked into, such as one whose server does not answer; what is in it is recorded as
    /// unknown. May be repeated.
    #[arg(long, value_name = "DIRECTORY")]
    leave_out: Vec<PathBuf>,
    /// How many entries there may be; with more there is no survey. A server can make a directory that never ends.
    #[arg(long, value_name = "N", default_value_t = MOST_ENTRIES, hide_default_value = true)]
    most_entries: u64,
    /// Do not read ACLs and file capabilities: faster, and answers then assume that there are none.
    #[arg(long)]
    without_acls: bool,
}

/// A format for other tools.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum To {
    /// The survey's own format as base64, for logs and other places for text; `base64 -d` decodes it.
    Base64,
    /// mtree(5), with whole paths.
    Mtree,
    /// One JSON object per entry.
    Jsonl,
    /// Mode, owner, size and name of each entry.
    TarListing,
    /// Apache Parquet, one row per entry.
    Parquet,
    /// A dataset of many volumes and days for engines that answer SQL; -o names its folder.
    Dataset,
}

impl To {
    /// The format of other tools that it is; `None` for the survey's own.
    const fn format(self) -> Option<Format> {
        match self {
            Self::Base64 | Self::Dataset => None,
            Self::Mtree => Some(Format::Mtree),
            Self::Jsonl => Some(Format::Jsonl),
            Self::TarListing => Some(Format::TarListing),
            Self::Parquet => Some(Format::Parquet),
        }
    }

    const fn is_text(self) -> bool {
        matches!(self, Self::Base64 | Self::Mtree | Self::Jsonl | Self::TarListing)
    }
}

/// Why no survey is taken.
#[derive(Debug, thiserror::Error)]
enum CannotWrite {
    /// It would go to a terminal.
    #[error(
        "refusing to write a binary survey to a terminal: name a file with -o, such as -o readings.survey"
    )]
    Terminal,
    /// A dataset has a folder.
    #[error("name the folder of the dataset with -o, such as -o /srv/fleet")]
    NoFolder,
    /// A dataset has volumes.
    #[error("name the volume in the dataset with --volume, such as --volume readings")]
    NoVolume,
    /// Nothing else has volumes.
    #[error("--volume names a volume of a dataset: add --to dataset, or leave it out")]
    NoDataset,
    /// A name that no folder of a dataset has.
    #[error("{0}")]
    Volume(NameError),
    /// A day that is none.
    #[error("`{0}` is not a date: write it as 2026-12-01")]
    Date(String),
    /// A format that this build leaves out.
    #[error("this build cannot write {0}: build it with --features {0}, or take a package")]
    NotBuiltIn(&'static str),
}

impl CommandError for CannotWrite {}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let Some(source) = &args.source else {
        images::kept(out)?;
        return Ok(End::Answered);
    };
    let text = args.to.is_some_and(To::is_text);
    if args.output.is_none() && terminal::stdout().is_terminal() && !text {
        return Err(CannotWrite::Terminal.into());
    }
    let left_out = args.to.and_then(To::format).is_some_and(|format| !format.is_built_in());
    if left_out || args.to == Some(To::Dataset) && !dataset::is_built_in() {
        return Err(CannotWrite::NotBuiltIn("parquet").into());
    }
    let options = Options {
        acls: !args.without_acls,
        across_mounts: args.across_mounts,
        sizes: args.sizes || args.to.is_some_and(|to| to != To::Base64),
        leave_out: args.leave_out.iter().map(|path| below(source, path)).collect(),
        most_entries: args.most_entries,
        stalled: Some(stalled),
        choice: Choice {
            name: args.reference.clone(),
            name_is_a_hint: false,
            platform: args.platform.clone(),
        },
        ..Options::default()
    };
    if args.to != Some(To::Dataset) && args.volume.is_some() {
        return Err(CannotWrite::NoDataset.into());
    }
    if args.to == Some(To::Dataset) {
        return dataset(args, source, &options, (out, err));
    }
    let (gathered, recorded) = read(args, source, &options)?;
    let name = match source.to_str() {
        Some("-") => "standard input".to_owned(),
        _ => source.display().to_string(),
    };
    let own = |out: &mut (dyn Write + Send)| match &recorded {
        Some(recorded) => recorded.write(out, &gathered, &name),
        None => survey::record(out, &gathered, &name),
    };
    let record = |out: &mut (dyn Write + Send)| match (args.to, args.to.and_then(To::format)) {
        (_, Some(format)) => export::write(out, &gathered.tree, format).map_err(Failure::Output),
        (Some(_), None) => base64(out, own).map_err(Failure::Output),
        (None, None) => own(out).map_err(Failure::Output),
    };
    match &args.output {
        Some(path) => {
            output::replace(path, record)?;
            let bytes = std::fs::metadata(path).map_or(0, |facts| facts.len());
            text::survey(out, &name, &path.display().to_string(), &gathered.tree, bytes)?;
        }
        None => output::raw(record)?,
    }
    text::holes(err, gathered.holes.vanished, gathered.holes.denied, gathered.holes.failed)?;
    if gathered.holes.any() {
        text::missing_facts(err, gathered.tree.missing_facts())?;
    }
    text::boundaries(err, gathered.holes.boundaries)?;
    Ok(if gathered.holes.any() { End::Incomplete } else { End::Answered })
}

/// Reads the source. A directory is recorded while it is read, where a survey is wanted of it.
fn read(
    args: &Args,
    source: &Path,
    options: &Options,
) -> Result<(Gathered, Option<survey::Recorded>), Failure> {
    let directory = source != Path::new("-") && images::named(source).is_none() && is_directory(source);
    if !directory || args.to.and_then(To::format).is_some() {
        return Ok((gather(source, options)?, None));
    }
    let read = |watch: &Watch<'_>| source::gather_recorded(source, options, watch);
    let (gathered, recorded) = sources::watched(source, &read)?;
    Ok((gathered, Some(recorded)))
}

/// Writes the source into a dataset; a directory while it is read.
fn dataset(
    args: &Args,
    source: &Path,
    options: &Options,
    (out, err): (&mut dyn Write, &mut dyn Write),
) -> Result<End, Failure> {
    let folder = args.output.clone().ok_or(CannotWrite::NoFolder)?;
    let volume = args.volume.as_deref().ok_or(CannotWrite::NoVolume)?.parse().map_err(CannotWrite::Volume)?;
    let date = args.date.clone().unwrap_or_else(dataset::today);
    if !dataset::is_date(&date) {
        return Err(CannotWrite::Date(date).into());
    }
    let target = dataset::Target { folder, volume, date, begin: output::unnamed };
    let (written, holes, unknown) = if is_directory(source) {
        let (written, holes) =
            sources::watched(source, &|watch| live::record(&target, source, options, watch))?;
        (written, holes, None)
    } else {
        let gathered = gather(source, options)?;
        let failed = |error| Failure::File { path: target.folder.clone(), error };
        let written = dataset::write_tree(&target, &gathered.tree).map_err(failed)?;
        (written, gathered.holes, Some(gathered.tree))
    };
    text::dataset(out, &source.display().to_string(), &target, &written)?;
    text::holes(err, holes.vanished, holes.denied, holes.failed)?;
    if let Some(tree) = unknown.filter(|_| holes.any()) {
        text::missing_facts(err, tree.missing_facts())?;
    }
    text::boundaries(err, holes.boundaries)?;
    Ok(if holes.any() { End::Incomplete } else { End::Answered })
}

/// Columns of a line of base64 (RFC 2045, section 6.8).
const COLUMNS: usize = 76;

/// What `fill` writes, as lines of base64.
fn base64(
    out: &mut (dyn Write + Send),
    fill: impl FnOnce(&mut (dyn Write + Send)) -> io::Result<()>,
) -> io::Result<()> {
    let mut encoder = EncoderWriter::new(Lines { out, column: 0 }, &STANDARD);
    fill(&mut encoder)?;
    let lines = encoder.finish()?;
    if lines.column > 0 { lines.out.write_all(b"\n") } else { lines.out.flush() }
}

/// Breaks what is written into lines.
struct Lines<'a> {
    out: &'a mut (dyn Write + Send),
    column: usize,
}

impl Write for Lines<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut rest = bytes;
        while !rest.is_empty() {
            let (line, behind) = rest.split_at(rest.len().min(COLUMNS - self.column));
            self.out.write_all(line)?;
            self.column += line.len();
            if self.column == COLUMNS {
                self.out.write_all(b"\n")?;
                self.column = 0;
            }
            rest = behind;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// The path of a directory from the source, which it may begin with.
fn below(source: &Path, path: &Path) -> Vec<u8> {
    let path = path.strip_prefix(source).unwrap_or(path);
    let parts = path.components().filter_map(|part| match part {
        Component::Normal(name) => Some(name.as_encoded_bytes()),
        Component::CurDir | Component::ParentDir | Component::RootDir | Component::Prefix(_) => None,
    });
    parts.collect::<Vec<_>>().join(&b'/')
}

/// Says where it stands; a server that does not answer would otherwise look like a large disk.
fn stalled(path: &[u8]) {
    let seconds = PATIENCE.as_secs();
    let shown = if path.is_empty() { "the source itself".to_owned() } else { quoted(path) };
    let instead = if path.is_empty() {
        String::new()
    } else {
        format!(": interrupt, and go on with --leave-out {shown}")
    };
    terminal::note(&format!("{shown} has not answered for {seconds} seconds; it is waited for{instead}"));
}
