//! The mode that a volume gives its files, as an option of a mount: `mode=0400`.

use mivask_model::fact::{Fact, Provenance};
use mivask_model::mode::Mode;
use mivask_model::path::trimmed;
use mivask_stage::scene::{VolumeKind, Workload};

/// The mode in an option, where it is `mode=MODE`.
#[must_use]
pub fn mode_option(option: &str) -> Option<Result<Mode, String>> {
    let text = option.strip_prefix("mode=")?;
    Some(text.parse().map_err(|_| format!("`{text}` is not an octal mode: write mode=0400")))
}

/// Gives the volume that is mounted at `path` another mode of its files (`defaultMode`), or a tmpfs one of its root.
///
/// # Errors
/// Nothing is mounted there, or something whose files have modes of their own.
pub(super) fn set(
    workload: &mut Workload,
    container: usize,
    path: &[u8],
    mode: Mode,
    from: &Provenance,
) -> Result<(), String> {
    let mounts = &workload.containers[container].mounts;
    let mount = mounts.iter().find(|mount| trimmed(&mount.at.value) == trimmed(path));
    let name = mount.map(|mount| mount.volume.value.clone()).ok_or("the description mounts nothing there")?;
    let volume = workload.volumes.iter_mut().find(|volume| volume.name.value == name);
    match volume.map(|volume| &mut volume.kind) {
        Some(VolumeKind::Api(api)) => api.default_mode = Fact::new(mode, from.clone()),
        Some(VolumeKind::Tmpfs(asked)) => asked.mode = Some(mode),
        Some(_) | None => {
            return Err("only a tmpfs and volumes made of API objects have a mode: change that of the files"
                .to_owned());
        }
    }
    Ok(())
}
