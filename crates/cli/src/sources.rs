//! Sources of on-disk facts, read with a bar on a terminal.

use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::live::{Options, Watch};
use mivask_disk::source;

use crate::end::Failure;
use crate::images;

/// Reads a source, with a bar on a terminal where that takes long.
pub(crate) fn gather(source: &Path, options: &Options) -> Result<Gathered, Failure> {
    if let Some(image) = images::named(source) {
        return images::gather(image, &options.choice).map_err(Failure::Disk);
    }
    watched(source, &|watch| source::gather(source, options, watch))
}

/// Reads a source by `read`, which tells how many entries it has read.
pub(crate) fn watched<T>(
    source: &Path,
    read: &dyn Fn(&Watch<'_>) -> Result<T, DiskError>,
) -> Result<T, Failure> {
    let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(4));
    let style = ProgressStyle::with_template("{spinner} {human_pos} entries, {per_sec}, {elapsed}");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
    // What is done within a second needs no bar.
    let begun = Instant::now();
    let seen = AtomicU64::new(0);
    let quiet = crate::terminal::is_quiet();
    let watch = |entries: u64| {
        let before = seen.fetch_add(entries, Ordering::Relaxed);
        if !quiet && begun.elapsed() > Duration::from_secs(1) {
            bar.set_position(before + entries);
        }
    };
    crate::inputs::note(source);
    let done = read(&watch);
    bar.finish_and_clear();
    done.map_err(Failure::Disk)
}
