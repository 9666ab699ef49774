//! `confirm`: predictions beside the running kernel.

mod error;
mod random;
mod scene;

use std::io::Write;
use std::path::PathBuf;

use crate::end::{End, Failure};
use crate::options::{Facts, Format};

/// Performs the same acts on the running kernel and reports whether it agrees.
///
/// The scene is rebuilt in a private mount namespace: nothing outside it and none of your files is touched, and
/// nothing stays mounted, even if you interrupt it. Everything is built on tmpfs unless --filesystem says
/// otherwise; this machine's sysctls count, not the scene's. It needs root; without it, actors without capabilities
/// are tried in a user namespace, as far as its ids go (with newuidmap and subordinate ids, that is far). What
/// cannot be rebuilt comes back as not checked, with the reason. With --random, scenarios are made up: the first
/// that differs is minimised and saved as a scene file.
///
/// Exit status 1: kernel and prediction differ; 3: nothing could be checked here.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask confirm pod.yaml 'gauge writes /data/level.csv'\n  mivask confirm --random 20000 --seed 7"
)]
pub(crate) struct Args {
    /// Kubernetes objects, a Compose file, an OCI configuration, a folder of these, or a scene file; `-` is standard input.
    #[arg(required_unless_present = "random", conflicts_with = "random")]
    input: Option<PathBuf>,
    /// Acts, each a single argument.
    #[arg(value_name = "ACT")]
    acts: Vec<String>,
    /// A file of acts, one per line; `-` is standard input.
    #[arg(long = "acts", value_name = "FILE", conflicts_with = "random")]
    file: Vec<PathBuf>,
    #[command(flatten)]
    facts: Facts,
    /// What to build on: tmpfs, ext4, xfs or btrfs, or `told` for each volume's own file system as the scene has
    /// it. With --random, also overlay, erofs and squashfs; may then be repeated.
    #[arg(long, value_name = "NAME")]
    filesystem: Vec<String>,
    /// Try this many random acts instead of a scene's.
    #[arg(long, value_name = "N", conflicts_with = "Facts")]
    random: Option<usize>,
    /// The random seed; the same seed gives the same acts.
    #[arg(long, value_name = "S", default_value_t = 1, requires = "random")]
    seed: u64,
    /// Where to save the scene of a random act that differs.
    #[arg(short, long, value_name = "FILE", default_value = "difference.scene.yaml", requires = "random")]
    output: PathBuf,
    /// How to print the answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    format: Format,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    match args.random {
        Some(acts) => random::run(args, acts, out, err),
        None => scene::run(args, out, err),
    }
}
