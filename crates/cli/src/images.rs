//! Images that are looked for where they are: places named by `--images-from` or a scene, and sources such as `docker:NAME`.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::Path;

use mivask_core::identity::Knowledge;
use mivask_core::recipe::Recipe;
use mivask_core::scene::{Image, Scene, Workload};
use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::place::Place;
#[cfg(feature = "network")]
use mivask_read::disk;
#[cfg(feature = "network")]
use mivask_read::scene_file;

use crate::end::Failure;
use crate::options::{Input, NOWHERE};

/// The images that workloads run.
#[derive(Default)]
pub(crate) struct Wanted(BTreeSet<String>);

impl Wanted {
    /// Those of one workload.
    pub(crate) fn take(&mut self, workload: &Workload) {
        self.0.extend(workload.containers.iter().filter_map(|one| Some(one.image.as_ref()?.value.clone())));
    }
}

/// An image as a source: where it is, and its name.
pub(crate) fn named(source: &Path) -> Option<(Place, String)> {
    Place::of_image(source.to_str()?)
}

/// A place of `--images-from` as a scene has it; `named` is how that calls a file.
pub(crate) fn place_as_named(place: &str, named: &dyn Fn(&Path) -> String) -> String {
    match Place::parse(place) {
        Ok(Place::Folder(folder)) => named(&folder),
        Ok(Place::Registry(_) | Place::Engine(_)) | Err(_) => place.to_owned(),
    }
}

/// Where images are looked for, in order.
fn places<'a>(scene: &'a Scene, input: &'a Input) -> &'a [String] {
    let own = &input.facts.images_from;
    if own.is_empty() { &scene.images_from } else { own }
}

/// Whether images are looked for at all.
pub(crate) fn are_looked_for(scene: &Scene, input: &Input) -> bool {
    places(scene, input).iter().any(|place| place != NOWHERE)
}

/// Looks for the images of `wanted`, and for those that builds begin with, of which not everything is given.
pub(crate) fn add(
    scene: &mut Scene,
    wanted: Wanted,
    input: &Input,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    if !are_looked_for(scene, input) {
        return Ok(());
    }
    let given = places(scene, input).iter().filter(|place| *place != NOWHERE);
    let places: Vec<Place> = given.filter_map(|text| Place::parse(text).ok()).collect();
    let bases = scene.builds.values().flat_map(Recipe::images).cloned();
    let all: BTreeSet<String> =
        wanted.0.into_iter().filter(|name| !scene.builds.contains_key(name)).chain(bases).collect();
    let lacking = all.into_iter().filter(|name| !scene.images.get(name).is_some_and(is_whole));
    let mut missing = 0;
    for name in lacking.collect::<Vec<_>>() {
        if !look_for(&name, &places, scene, err)? {
            missing += 1;
        }
    }
    if input.facts.strict && missing > 0 { Err(Failure::Strict { warnings: missing }) } else { Ok(()) }
}

/// Whether nothing about an image is left to be found.
fn is_whole(image: &Image) -> bool {
    let known = matches!(image.identity.user, Knowledge::Known(_))
        && matches!(image.identity.accounts, Knowledge::Known(_));
    image.failure.is_some() || known && image.tree.is_some()
}

#[cfg(feature = "network")]
mod network {
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicU64, Ordering};
    use std::time::{Duration, Instant};

    use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
    use mivask_disk::image::Choice;
    use mivask_disk::place::Place;
    use mivask_fetch::{Cache, FetchError, Fetcher, Found, Step};

    /// The one of this run: connections and tokens are shared.
    pub(super) fn fetcher() -> &'static Fetcher {
        static FETCHER: OnceLock<Fetcher> = OnceLock::new();
        FETCHER.get_or_init(|| Fetcher::new(Cache::usual()))
    }

    /// Fetches an image, with a bar on a terminal where that takes long.
    pub(super) fn fetch(place: &Place, choice: &Choice) -> Result<Found, FetchError> {
        let bar = ProgressBar::with_draw_target(Some(0), ProgressDrawTarget::stderr_with_hz(4));
        let style = ProgressStyle::with_template("{msg} {bar:20} {bytes} of {total_bytes}, {bytes_per_sec}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        bar.set_message(mivask_show::safe(choice.name.as_deref().unwrap_or_default()));
        let begun = Instant::now();
        let (expected, came) = (AtomicU64::new(0), AtomicU64::new(0));
        let quiet = crate::terminal::is_quiet();
        let watch = |step| {
            match step {
                Step::Expected(bytes) => expected.fetch_add(bytes, Ordering::Relaxed),
                Step::Came(bytes) => came.fetch_add(bytes, Ordering::Relaxed),
            };
            // What is done within a second needs no bar.
            if !quiet && begun.elapsed() > Duration::from_secs(1) {
                bar.set_length(expected.load(Ordering::Relaxed));
                bar.set_position(came.load(Ordering::Relaxed));
            }
        };
        let found = fetcher().image(place, choice, &watch);
        bar.finish_and_clear();
        if let Ok(found) = &found {
            log::info!("{} in {} ms", found.source, begun.elapsed().as_millis());
        }
        found
    }
}

/// What asks engines and registries in this run.
#[cfg(feature = "network")]
pub(crate) fn fetcher() -> &'static mivask_fetch::Fetcher {
    network::fetcher()
}

/// The image that is named with its place.
#[cfg(feature = "network")]
pub(crate) fn gather(image: (Place, String), choice: &Choice) -> Result<Gathered, DiskError> {
    let (place, name) = image;
    let choice = Choice { name: Some(name), ..choice.clone() };
    match network::fetch(&place, &choice) {
        Ok(found) => Ok(found.gathered),
        Err(error) => {
            let failed = DiskError::whole(&error.place, error.message);
            Err(DiskError { help: error.help, ..failed })
        }
    }
}

/// Lists what is kept of images.
#[cfg(feature = "network")]
pub(crate) fn kept(out: &mut dyn Write) -> Result<(), Failure> {
    let cache = mivask_fetch::Cache::usual();
    let Some(folder) = cache.folder() else {
        writeln!(out, "There is no folder to keep images in: neither XDG_CACHE_HOME nor HOME is set.")?;
        return Ok(());
    };
    let all: Vec<mivask_show::text::Kept> = cache
        .contents()
        .into_iter()
        .map(|one| {
            let name = one.path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
            let unused = one.used.elapsed().unwrap_or_default();
            mivask_show::text::Kept { name, bytes: one.bytes, unused, is_image: one.is_image }
        })
        .collect();
    Ok(mivask_show::text::kept(out, &folder.display().to_string(), cache.most(), &all)?)
}

/// Looks for one image in each place until it is found; otherwise says why it is in none. Whether it was found.
#[cfg(feature = "network")]
fn look_for(name: &str, places: &[Place], scene: &mut Scene, err: &mut dyn Write) -> Result<bool, Failure> {
    let mut failed = Vec::new();
    for place in places {
        let choice = Choice { name: Some(name.to_owned()), name_is_a_hint: true, platform: None };
        match network::fetch(place, &choice) {
            Ok(found) => {
                let fetched = disk::image(&found.source, found.gathered);
                let given = scene.images.remove(name).unwrap_or_default();
                scene.images.insert(name.to_owned(), scene_file::over(fetched, given));
                return Ok(true);
            }
            Err(error) => failed.push(error),
        }
    }
    let safe = mivask_show::safe;
    writeln!(err, "warning: nothing was found of image {}", safe(name))?;
    for error in &failed {
        writeln!(err, "  {}", safe(&error.to_string()))?;
        if let Some(help) = &error.help {
            writeln!(err, "    help: {}", safe(help))?;
        }
    }
    Ok(false)
}

/// Why this build asks nobody.
#[cfg(not(feature = "network"))]
pub(crate) const NOT_BUILT_IN: &str =
    "this build opens no connections: build it with --features network, or take a package";

/// Nothing is asked.
#[cfg(not(feature = "network"))]
pub(crate) fn gather(image: (Place, String), _: &Choice) -> Result<Gathered, DiskError> {
    Err(DiskError::whole(&image.1, NOT_BUILT_IN))
}

/// Nothing is kept.
#[cfg(not(feature = "network"))]
pub(crate) fn kept(_: &mut dyn Write) -> Result<(), Failure> {
    Err(Failure::Disk(DiskError::whole("what is kept", NOT_BUILT_IN)))
}

/// Nothing is asked, and that is said.
#[cfg(not(feature = "network"))]
fn look_for(name: &str, _: &[Place], _: &mut Scene, _: &mut dyn Write) -> Result<bool, Failure> {
    Err(Failure::Disk(DiskError::whole(name, NOT_BUILT_IN)))
}
