//! Sources recognised by type and content.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

use crate::archive::{self, Flow, Packing, Part, Peeked, Plain, Stream};
use crate::error::{At, DiskError};
use crate::gathered::Gathered;
use crate::image;
use crate::listing::{self, Owners};
use crate::live::{self, Options, Watch};
use crate::survey::{self, Recorded, SurveyError};
use crate::unpack;

/// How much is looked at to tell what something is.
const HEAD: u64 = 4096;

const HELP: &str = "name a directory, a survey, a tar archive, an image's layers, or the output of mtree, getfacl -R, \
    ls -lanR, find -printf or stat (docs/formats/sources.md)";

/// Reads the source at `path`, whatever it is; `-` is standard input.
///
/// # Errors
/// It cannot be read, is of no known kind, or is damaged.
pub fn gather(path: &Path, options: &Options, watch: &Watch<'_>) -> Result<Gathered, DiskError> {
    if path == Path::new("-") {
        return read("standard input", &mut io::stdin().lock(), options);
    }
    let name = path.display().to_string();
    let failed = |error: io::Error| DiskError::io(&name, &error);
    let facts = std::fs::metadata(path).map_err(failed)?;
    if facts.is_dir() {
        return if image::is_layout(path) {
            image::gather_layout(path, &options.choice, options.sizes)
        } else {
            one_tree(&name, options)?;
            live::gather(path, options, watch)
        };
    }
    let mut plain = Plain::new(File::open(path).map_err(failed)?);
    let given = Told { name: &name, size: facts.is_file().then_some(facts.len()), options };
    given.read(&mut plain, || Owners::beside(path))
}

/// Reads the directory at `path`, which [`is_directory`], and makes the survey of it meanwhile.
///
/// # Errors
/// As for [`gather`].
pub fn gather_recorded(
    path: &Path,
    options: &Options,
    watch: &Watch<'_>,
) -> Result<(Gathered, Recorded), DiskError> {
    one_tree(&path.display().to_string(), options)?;
    live::gather_recorded(path, options, watch)
}

/// Whether the source at `path` is a directory of files, and not the layers of an image.
#[must_use]
pub fn is_directory(path: &Path) -> bool {
    path.is_dir() && !image::is_layout(path)
}

/// Reads a source from its bytes, which are called `name` in answers. Names of owners stay unknown.
///
/// # Errors
/// As for [`gather`].
pub fn read(name: &str, input: &mut dyn Read, options: &Options) -> Result<Gathered, DiskError> {
    Told { name, size: None, options }.read(&mut Flow(input), Owners::default)
}

/// What is known of a source before its first byte.
struct Told<'a> {
    name: &'a str,
    size: Option<u64>,
    options: &'a Options,
}

impl Told<'_> {
    fn read(&self, stream: &mut dyn Stream, owners: impl FnOnce() -> Owners) -> Result<Gathered, DiskError> {
        let name = self.name;
        let failed = |error: io::Error| DiskError::io(name, &error);
        let mut part = Part::new(stream, u64::MAX);
        let mut peeked = Peeked::new(&mut part, HEAD).map_err(failed)?;
        let head = peeked.head().to_vec();
        if head.starts_with(&survey::MAGIC[..14]) {
            one_tree(name, self.options)?;
            return survey::read(&mut peeked, name, self.size).map_err(|error| of_survey(name, &error));
        }
        let packing = Packing::of(&head);
        if packing == Packing::None {
            return self.plain(&head, &mut peeked, owners);
        }
        let Some(mut unpacked) = packing.unpack(peeked).map_err(failed)? else {
            return Err(DiskError::whole(name, "an archive packed in a way that is not read")
                .with_help("pack it with gzip, zstd, xz or bzip2, or not at all"));
        };
        let unpacked_badly = |error| DiskError::whole(name, format!("cannot be unpacked: {error}"));
        let mut part = Part::new(&mut *unpacked, u64::MAX);
        let mut peeked = Peeked::new(&mut part, HEAD).map_err(unpacked_badly)?;
        let head = peeked.head().to_vec();
        self.plain(&head, &mut peeked, owners)
    }

    /// An archive of an image or of files, or a listing.
    fn plain(
        &self,
        head: &[u8],
        stream: &mut dyn Stream,
        owners: impl FnOnce() -> Owners,
    ) -> Result<Gathered, DiskError> {
        let name = self.name;
        let options = self.options;
        if archive::is_tar(head) {
            return if image::is_image_member(archive::first_name(head)) {
                image::gather_archive(name, stream, &options.choice, options.sizes)
            } else {
                one_tree(name, options)?;
                unpack::gather(name, stream, options.sizes)
            };
        }
        if let Some(kind) = listing::kind(head) {
            one_tree(name, options)?;
            let mut input = BufReader::with_capacity(1 << 16, stream);
            return listing::gather(kind, name, &mut input, owners());
        }
        if head.is_empty() {
            return Err(DiskError::whole(name, "the source is empty").with_help(HELP));
        }
        Err(DiskError::whole(name, "this is neither a directory nor a file that tells of one")
            .with_help(HELP))
    }
}

/// Of one tree of files there is nothing to choose.
fn one_tree(name: &str, options: &Options) -> Result<(), DiskError> {
    let choice = &options.choice;
    if choice.name_is_a_hint || choice.name.is_none() && choice.platform.is_none() {
        return Ok(());
    }
    Err(DiskError::whole(name, "this is one tree of files, not images to choose from")
        .with_help("leave the name and the platform of the image out"))
}

fn of_survey(name: &str, error: &SurveyError) -> DiskError {
    let at = match error {
        SurveyError::Damaged { at, .. } => At::Byte(*at),
        SurveyError::Io(_) | SurveyError::Magic | SurveyError::Version | SurveyError::Cut => At::Whole,
    };
    let help = matches!(error, SurveyError::Damaged { .. } | SurveyError::Cut);
    DiskError {
        source: name.to_owned(),
        at,
        message: error.to_string(),
        help: help.then(|| "take the survey again, or copy it again from where it is whole".to_owned()),
    }
}
