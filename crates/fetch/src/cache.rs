//! What was read of images, kept by digest: a survey for each layer and one for each image.
//!
//! Files are written beside and put in their place as a whole, so several processes may use one cache. Each is checked
//! when it is read: its own checksums, and that it is what its name says. What is damaged is taken away and read again.

use std::fs::{self, File};
use std::io::{self, BufReader, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use mivask_disk::gathered::Gathered;
use mivask_disk::image::{Choice, Digest, Layer};
use mivask_disk::survey;

use crate::local;

/// How many bytes all files together may have.
const MOST: u64 = 256 << 20;
/// What files are called.
const EXTENSION: &str = "survey";
/// The folders, below that of the cache.
const LAYERS: &str = "layers";
const IMAGES: &str = "images";

/// A folder of surveys; or none, and nothing is kept.
#[derive(Debug)]
pub struct Cache {
    folder: Option<PathBuf>,
    most: u64,
}

/// What an image is kept under.
pub(crate) struct Key(String);

impl Key {
    /// The manifest or index that a name stands for, and the platform that is chosen from it.
    pub(crate) fn of_manifest(digest: &Digest, choice: &Choice) -> Self {
        let (os, arch, variant) = choice.wanted();
        let platform = [Some(os), Some(arch), variant];
        let plain = |word: &str| word.chars().filter(char::is_ascii_alphanumeric).collect::<String>();
        let words: Vec<String> = platform.into_iter().flatten().map(plain).collect();
        Self(format!("{}-{}-{}", digest.algorithm, digest.encoded, words.join("-")))
    }

    /// What an engine calls an image.
    pub(crate) fn of_engine(id: &Digest) -> Self {
        Self(format!("engine-{}-{}", id.algorithm, id.encoded))
    }
}

/// One file of a cache.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Kept {
    /// Where it is.
    pub path: PathBuf,
    /// How many bytes it has.
    pub bytes: u64,
    /// When it was used last.
    pub used: SystemTime,
    /// Whether it is a whole image, and not a layer.
    pub is_image: bool,
}

impl Cache {
    /// The user's: `mivask` in the XDG cache folder. Without such a folder nothing is kept.
    #[must_use]
    pub fn usual() -> Self {
        Self { folder: local::cache().map(|folder| folder.join("mivask")), most: MOST }
    }

    /// One in `folder`, of at most `most` bytes.
    #[must_use]
    pub fn in_folder(folder: &Path, most: u64) -> Self {
        Self { folder: Some(folder.to_path_buf()), most }
    }

    /// One that keeps nothing.
    #[must_use]
    pub const fn none() -> Self {
        Self { folder: None, most: 0 }
    }

    /// Where it is.
    #[must_use]
    pub fn folder(&self) -> Option<&Path> {
        self.folder.as_deref()
    }

    /// How many bytes all files together may have.
    #[must_use]
    pub const fn most(&self) -> u64 {
        self.most
    }

    /// Everything in it, the latest used first.
    #[must_use]
    pub fn contents(&self) -> Vec<Kept> {
        let Some(folder) = &self.folder else { return Vec::new() };
        let mut all: Vec<Kept> = [(LAYERS, false), (IMAGES, true)]
            .into_iter()
            .flat_map(|(below, is_image)| files(&folder.join(below), is_image))
            .collect();
        all.sort_by(|a, b| (b.used, &a.path).cmp(&(a.used, &b.path)));
        all
    }

    /// The layer of a digest.
    pub(crate) fn layer(&self, digest: &Digest) -> Option<Layer> {
        let key = digest.to_string();
        self.read(LAYERS, &file_name(digest), |file, bytes| Layer::kept(file, &key, bytes))
    }

    /// Keeps a layer that was read and checked.
    pub(crate) fn keep_layer(&self, digest: &Digest, layer: &Layer) {
        let key = digest.to_string();
        self.write(LAYERS, &file_name(digest), |out| layer.keep(out, &key));
    }

    /// The image of a key; answers call it `name`.
    pub(crate) fn image(&self, key: &Key, name: &str) -> Option<Gathered> {
        self.read(IMAGES, &key.0, |file, bytes| {
            let (source, gathered) = survey::read_named(file, name, Some(bytes))?;
            Ok((source == key.0).then_some(gathered))
        })
    }

    /// Keeps an image, and gives it as it would be read from here: answers call it `name`.
    pub(crate) fn keep_image(&self, key: &Key, gathered: &Gathered, name: &str) -> io::Result<Gathered> {
        let mut bytes = Vec::new();
        survey::record(&mut bytes, gathered, &key.0)?;
        self.write(IMAGES, &key.0, |out| out.write_all(&bytes).map(|()| true));
        let again = survey::read(&mut bytes.as_slice(), name, Some(bytes.len() as u64));
        again.map_err(io::Error::other)
    }

    fn read<T>(
        &self,
        below: &str,
        name: &str,
        read: impl FnOnce(&mut BufReader<File>, u64) -> Result<Option<T>, survey::SurveyError>,
    ) -> Option<T> {
        let path = self.folder.as_ref()?.join(below).join(name).with_extension(EXTENSION);
        let file = File::open(&path).ok()?;
        let bytes = file.metadata().ok()?.len();
        // The least used go first: where the time cannot be set they go by when they were written.
        let _ = file.set_modified(SystemTime::now());
        match read(&mut BufReader::with_capacity(1 << 16, file), bytes) {
            Ok(Some(found)) => Some(found),
            Ok(None) => self.drop_damaged(&path, "it is another's"),
            Err(error) => self.drop_damaged(&path, &error.to_string()),
        }
    }

    fn drop_damaged<T>(&self, path: &Path, what: &str) -> Option<T> {
        log::warn!("{}: {what}; it is read again from where it came", path.display());
        if let Err(error) = fs::remove_file(path) {
            log::debug!("{}: {error}", path.display());
        }
        None
    }

    /// Writes a file as a whole; an error leaves the cache as it was, and is no reason to end.
    fn write(&self, below: &str, name: &str, fill: impl FnOnce(&mut dyn Write) -> io::Result<bool>) {
        let Some(folder) = &self.folder else { return };
        let place = folder.join(below);
        let written = || {
            fs::DirBuilder::new().recursive(true).mode(0o700).create(&place)?;
            let mut file = tempfile::Builder::new().prefix(".part-").tempfile_in(&place)?;
            let mut out = io::BufWriter::new(file.as_file_mut());
            let wanted = fill(&mut out)?;
            out.flush()?;
            drop(out);
            if wanted {
                file.persist(place.join(name).with_extension(EXTENSION)).map_err(|error| error.error)?;
            }
            Ok::<(), io::Error>(())
        };
        match written() {
            Ok(()) => self.trim(),
            Err(error) => log::info!("{}: {name} is not kept: {error}", place.display()),
        }
    }

    /// Takes away what was not used for longest, until the rest is small enough.
    fn trim(&self) {
        let mut left = self.most;
        for kept in self.contents() {
            match left.checked_sub(kept.bytes) {
                Some(rest) => left = rest,
                // Another process may have been faster.
                None => drop(fs::remove_file(&kept.path)),
            }
        }
    }
}

fn file_name(digest: &Digest) -> String {
    format!("{}-{}", digest.algorithm, digest.encoded)
}

fn files(folder: &Path, is_image: bool) -> Vec<Kept> {
    let Ok(all) = fs::read_dir(folder) else { return Vec::new() };
    let paths = all.flatten().map(|file| file.path());
    let kept = paths.filter_map(|path| {
        let facts = fs::symlink_metadata(&path).ok().filter(fs::Metadata::is_file)?;
        let named = path.extension().is_some_and(|extension| extension == EXTENSION);
        // What a killed process left half-written counts, so that it goes one day.
        let part = path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b".part-"));
        let used = facts.modified().unwrap_or(SystemTime::UNIX_EPOCH);
        (named || part).then(|| Kept { bytes: facts.size(), path, used, is_image })
    });
    kept.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn digest(number: u64) -> Digest {
        Digest::try_from(format!("sha256:{number:064x}")).unwrap()
    }

    /// A layer of one file.
    fn layer(name: &str) -> Layer {
        let mut builder = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_ustar();
        header.set_size(0);
        header.set_mode(0o640);
        header.set_uid(7101);
        header.set_gid(7200);
        builder.append_data(&mut header, name, io::empty()).unwrap();
        Layer::from_stream("layer", &mut builder.into_inner().unwrap().as_slice()).unwrap()
    }

    #[test]
    fn what_was_not_used_for_longest_goes_first() {
        let folder = tempfile::tempdir().unwrap();
        let all = Cache::in_folder(folder.path(), u64::MAX);
        for number in 0..6 {
            all.keep_layer(&digest(number), &layer("a"));
            let file = File::open(
                all.contents()
                    .iter()
                    .find(|one| one.path.to_string_lossy().contains(&file_name(&digest(number))))
                    .unwrap()
                    .path
                    .clone(),
            )
            .unwrap();
            file.set_modified(SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(number)).unwrap();
        }
        // Being asked for is being used.
        assert!(all.layer(&digest(0)).is_some());
        let bytes = all.contents()[0].bytes;
        let few = Cache::in_folder(folder.path(), bytes * 3 + bytes / 2);
        few.keep_layer(&digest(6), &layer("a"));
        let left: Vec<bool> = (0..7).map(|number| few.layer(&digest(number)).is_some()).collect();
        assert_eq!(left, [true, false, false, false, false, true, true]);
    }

    #[test]
    fn what_is_under_the_wrong_name_is_not_believed() {
        let folder = tempfile::tempdir().unwrap();
        let cache = Cache::in_folder(folder.path(), MOST);
        cache.keep_layer(&digest(1), &layer("a"));
        let place = folder.path().join(LAYERS);
        let path = |number| place.join(file_name(&digest(number))).with_extension(EXTENSION);
        fs::copy(path(1), path(2)).unwrap();
        fs::write(path(3), b"").unwrap();
        assert!(cache.layer(&digest(1)).is_some() && cache.layer(&digest(2)).is_none());
        assert!(cache.layer(&digest(3)).is_none() && !path(2).exists() && !path(3).exists());
        let facts = fs::metadata(&place).unwrap();
        assert_eq!(facts.mode() & 0o777, 0o700);
    }

    #[test]
    fn without_a_folder_or_a_place_to_write_nothing_is_kept_and_nothing_fails() {
        Cache::none().keep_layer(&digest(1), &layer("a"));
        assert!(Cache::none().layer(&digest(1)).is_none() && Cache::none().contents().is_empty());
        let file = tempfile::NamedTempFile::new().unwrap();
        let cache = Cache::in_folder(file.path(), MOST);
        cache.keep_layer(&digest(1), &layer("a"));
        assert!(cache.layer(&digest(1)).is_none());
    }
}
