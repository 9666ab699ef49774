//! Sources told apart by what they are and how they begin.

use std::fs::File;
use std::io::{self, BufReader};
use std::path::Path;

use crate::archive::{self, Packing, Part, Peeked, Plain, Stream};
use crate::error::{At, DiskError};
use crate::gathered::Gathered;
use crate::image;
use crate::listing::{self, Owners};
use crate::live::{self, Options, Watch};
use crate::survey::{self, SurveyError};

/// Reads the source at `path`, whatever it is.
///
/// # Errors
/// It cannot be read, is of no known kind, or is damaged.
pub fn gather(path: &Path, options: &Options, watch: &Watch<'_>) -> Result<Gathered, DiskError> {
    let name = path.display().to_string();
    let failed = |error: io::Error| DiskError::io(&name, &error);
    let facts = std::fs::metadata(path).map_err(failed)?;
    if facts.is_dir() {
        return if image::is_layout(path) {
            image::gather_layout(path, &options.choice, options.sizes)
        } else {
            live::gather(path, options, watch)
        };
    }
    let file = File::open(path).map_err(failed)?;
    let mut input = Plain::new(file);
    let head = input.peek().map_err(failed)?.to_vec();
    if head.starts_with(&survey::MAGIC[..14]) {
        let size = facts.is_file().then(|| facts.len());
        return survey::read(&mut input, &name, size).map_err(|error| of_survey(&name, &error));
    }
    match Packing::of(&head) {
        Packing::None if archive::is_tar(&head) => return of_archive(&name, &head, &mut input, options),
        Packing::None => {
            if let Some(kind) = listing::kind(&head) {
                let mut input = BufReader::with_capacity(1 << 16, input);
                return listing::gather(kind, &name, &mut input, Owners::beside(path));
            }
        }
        packing => {
            let Some(mut unpacked) = packing.unpack(input).map_err(failed)? else {
                return Err(DiskError::whole(&name, "an archive packed in a way that is not read")
                    .with_help("pack it with gzip, zstd or xz, or not at all"));
            };
            let mut part = Part::new(&mut *unpacked, u64::MAX);
            let mut peeked = Peeked::new(&mut part, 1024)
                .map_err(|error| DiskError::whole(&name, format!("cannot be unpacked: {error}")))?;
            let head = peeked.head().to_vec();
            if archive::is_tar(&head) {
                return of_archive(&name, &head, &mut peeked, options);
            }
            if let Some(kind) = listing::kind(&head) {
                let mut input = BufReader::with_capacity(1 << 16, peeked);
                return listing::gather(kind, &name, &mut input, Owners::beside(path));
            }
            let message = "what is packed in it is neither a tar archive nor a listing";
            return Err(DiskError::whole(&name, message));
        }
    }
    Err(DiskError::whole(&name, "this is neither a directory nor a file that tells of one").with_help(
        "name a directory, a survey, a tar archive, an image's layers, or the output of mtree, getfacl -R, ls -lanR, \
         find -printf or stat (docs/formats/sources.md)",
    ))
}

/// An archive: of an image, or of files.
fn of_archive(
    name: &str,
    head: &[u8],
    stream: &mut dyn Stream,
    options: &Options,
) -> Result<Gathered, DiskError> {
    if image::is_image_member(archive::first_name(head)) {
        image::gather_archive(name, stream, &options.choice, options.sizes)
    } else {
        archive::gather(name, stream, options.sizes)
    }
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
