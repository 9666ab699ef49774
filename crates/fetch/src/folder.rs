//! Images in a folder of archives and layouts.

use std::path::Path;

use mivask_disk::image::{self, Choice};
use mivask_disk::live::Options;
use mivask_disk::reference::Reference;
use mivask_disk::source;

use crate::connection::reason;
use crate::error::FetchError;
use crate::{Found, Wanted};

/// The image that is wanted, from the first of a folder's layouts and archives that names it. One without a name is never
/// taken for it.
pub(crate) fn image(folder: &Path, wanted: &Wanted<'_>) -> Result<Found, FetchError> {
    let place = folder.display().to_string();
    let failed = |error: std::io::Error| FetchError::new(&place, reason(&error));
    let mut paths = vec![folder.to_path_buf()];
    if image::names(folder)?.is_none() {
        let entries: Result<Vec<_>, _> = std::fs::read_dir(folder).map_err(failed)?.collect();
        paths = entries.map_err(failed)?.into_iter().map(|entry| entry.path()).collect();
        paths.sort();
    }
    let mut broken = None;
    for path in paths {
        let names = match image::names(&path) {
            Ok(names) => names.unwrap_or_default(),
            Err(error) => {
                broken.get_or_insert(error);
                continue;
            }
        };
        let Some(name) = names.into_iter().find(|name| is_same(name, wanted.name)) else { continue };
        let choice = Choice { name: Some(name), ..wanted.choice.clone() };
        let options = Options { choice, ..Options::default() };
        let gathered = source::gather(&path, &options, &|_| ())?;
        return Ok(Found { source: path.display().to_string(), gathered });
    }
    let unread = broken.map_or_else(String::new, |error| format!(" that can be read ({error})"));
    let name = wanted.name.escape_debug();
    Err(FetchError::missing(place, format!("has no archive or layout of {name}{unread}")))
}

/// Whether two names mean one image. Podman puts `localhost` before the names of what it builds.
fn is_same(given: &str, wanted: &str) -> bool {
    let full = |name: &str| Reference::parse(name).map(|name| name.to_string()).ok();
    let Some(wanted) = full(wanted) else { return given == wanted };
    [Some(given), given.strip_prefix("localhost/")]
        .into_iter()
        .flatten()
        .any(|name| full(name).as_ref() == Some(&wanted))
}

#[cfg(test)]
mod tests {
    use super::is_same;

    #[test]
    fn a_tag_alone_is_no_name() {
        for (given, wanted, same) in [
            ("tides/gauge:3", "tides/gauge:3", true),
            ("docker.io/tides/gauge:3", "tides/gauge:3", true),
            ("localhost/tides/gauge:3", "tides/gauge:3", true),
            ("tides/gauge:latest", "tides/gauge", true),
            ("3", "tides/gauge:3", false),
            ("gauge:3", "tides/gauge:3", false),
            ("registry.example/tides/gauge:3", "tides/gauge:3", false),
        ] {
            assert_eq!(is_same(given, wanted), same, "{given} for {wanted}");
        }
    }
}
