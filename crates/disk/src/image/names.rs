//! Which images an archive or a layout holds, without reading what is in them.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use super::document::Index;
use super::index;
use super::{is_image_member, is_layout, plain};
use crate::archive::{self, Members, Packing, Part, Peeked, Plain, Stream, tar_error};
use crate::error::DiskError;

/// How much is looked at to tell what a file is.
const HEAD: u64 = 4096;
/// The largest index.
const MOST_INDEX: u64 = 8 << 20;

/// The names of the images that `path` holds, as they are given there; `None` where it is neither a layout nor an archive of one,
/// nor what an engine saves. An image without a name is in none.
///
/// # Errors
/// It cannot be read, or is damaged.
pub fn names(path: &Path) -> Result<Option<Vec<String>>, DiskError> {
    let name = path.display().to_string();
    let failed = |error: io::Error| DiskError::io(&name, &error);
    let wrong = |what: String| DiskError::whole(&name, what);
    if path.is_dir() {
        if !is_layout(path) {
            return Ok(None);
        }
        let file = File::open(path.join("index.json")).map_err(failed)?;
        let mut text = Vec::new();
        file.take(MOST_INDEX).read_to_end(&mut text).map_err(failed)?;
        return of_index(&text).map(Some).map_err(wrong);
    }
    if !path.is_file() {
        return Ok(None);
    }
    let mut file = Plain::new(File::open(path).map_err(failed)?);
    let mut part = Part::new(&mut file, u64::MAX);
    let mut peeked = Peeked::new(&mut part, HEAD).map_err(failed)?;
    let packing = Packing::of(peeked.head());
    if packing == Packing::None {
        return of_archive(&name, &mut peeked);
    }
    let Some(mut unpacked) = packing.unpack(peeked).map_err(failed)? else { return Ok(None) };
    let mut part = Part::new(&mut *unpacked, u64::MAX);
    // What is packed may be anything: it is no image where it does not unpack.
    let Ok(mut peeked) = Peeked::new(&mut part, HEAD) else { return Ok(None) };
    of_archive(&name, &mut peeked)
}

fn of_archive(name: &str, stream: &mut Peeked<'_, '_>) -> Result<Option<Vec<String>>, DiskError> {
    let head = stream.head();
    if !(archive::is_tar(head) && is_image_member(archive::first_name(head))) {
        return Ok(None);
    }
    let mut texts: [Option<Vec<u8>>; 2] = [None, None];
    let stream: &mut dyn Stream = stream;
    let mut members = Members::new(stream);
    loop {
        let next = members.next(&mut |member, part| {
            let which = ["manifest.json", "index.json"].iter().position(|one| *one == plain(&member.path));
            if let Some(which) = which {
                let mut text = Vec::new();
                Read::take(part, MOST_INDEX).read_to_end(&mut text)?;
                texts[which] = Some(text);
            }
            Ok(())
        });
        if next.map_err(|error| tar_error(name, error))?.is_none() {
            break;
        }
    }
    let found = match texts {
        [Some(manifest), _] => index::tags(&manifest),
        [None, Some(index)] => of_index(&index),
        [None, None] => Ok(Vec::new()),
    };
    found.map(Some).map_err(|what| DiskError::whole(name, what))
}

fn of_index(text: &[u8]) -> Result<Vec<String>, String> {
    let index: Index =
        serde_json::from_slice(text).map_err(|error| format!("index.json does not read: {error}"))?;
    Ok(index.manifests.iter().flat_map(index::names).collect())
}
