//! Sources told apart by what they are and how they begin.

use std::fs::File;
use std::io::{self, BufReader};
use std::path::Path;

use crate::error::{At, DiskError};
use crate::gathered::Gathered;
use crate::live::{self, Options, Watch};
use crate::survey::{self, SurveyError};

/// How much of a file is looked at to tell what it is.
const HEAD: usize = 4096;

/// Reads the source at `path`, whatever it is.
///
/// # Errors
/// It cannot be read, is of no known kind, or is damaged.
pub fn gather(path: &Path, options: &Options, watch: &Watch<'_>) -> Result<Gathered, DiskError> {
    let name = path.display().to_string();
    let failed = |error: io::Error| DiskError::io(&name, &error);
    let facts = std::fs::metadata(path).map_err(failed)?;
    if facts.is_dir() {
        return live::gather(path, options, watch);
    }
    let file = File::open(path).map_err(failed)?;
    let mut input = BufReader::with_capacity(1 << 16, file);
    let head = peek(&mut input).map_err(failed)?;
    if head.starts_with(&survey::MAGIC[..14]) {
        let size = facts.is_file().then(|| facts.len());
        return survey::read(&mut input, &name, size).map_err(|error| of_survey(&name, &error));
    }
    Err(DiskError::whole(&name, "this is neither a directory nor a file that tells of one"))
}

/// The first bytes, which stay to be read.
fn peek(input: &mut BufReader<File>) -> io::Result<Vec<u8>> {
    use io::BufRead;
    let head = input.fill_buf()?;
    Ok(head[..head.len().min(HEAD)].to_vec())
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
