//! Bind sources that are on this machine: what `--disk` would say of them.

use std::collections::BTreeSet;
use std::io::Write;
use std::sync::Arc;

use mivask_core::path::trimmed;
use mivask_core::scene::{Scene, VolumeKind, Workload};
use mivask_show::shell;

use crate::end::Failure;
use crate::options::Input;
use crate::terminal;

/// More are counted.
const MOST: usize = 3;

/// What every machine has is no trace of the one that is meant.
const COMMON: [&str; 12] =
    ["", "/etc", "/var", "/usr", "/proc", "/sys", "/dev", "/run", "/tmp", "/home", "/srv", "/opt"];
/// What is below these is the machine's own.
const SPECIAL: [&str; 6] = ["/proc/", "/sys/", "/dev/", "/run/", "/etc/", "/var/run/"];

/// Says which bind sources are here, where nobody told anything of the host.
pub(crate) fn note(
    scene: &Scene,
    workloads: &[Arc<Workload>],
    input: &Input,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let given = input.facts.disk.iter().any(|disk| disk.name.starts_with("host"));
    if terminal::is_quiet() || given || scene.host.tree.is_some() {
        return Ok(());
    }
    let sources = workloads.iter().flat_map(|workload| &workload.volumes).filter_map(|volume| {
        let VolumeKind::Bind { path, .. } = &volume.kind else { return None };
        let text = std::str::from_utf8(trimmed(path)).ok()?.to_owned();
        let own = !COMMON.contains(&text.as_str()) && !SPECIAL.iter().any(|above| text.starts_with(above));
        (own && std::fs::symlink_metadata(&text).is_ok()).then_some(text)
    });
    let sources: BTreeSet<String> = sources.collect();
    if sources.is_empty() {
        return Ok(());
    }
    let are = if sources.len() == 1 { "a bind source is" } else { "bind sources are" };
    writeln!(err, "note: {are} on this machine; what is there as it is here comes with")?;
    for path in sources.iter().take(MOST) {
        writeln!(err, "  --disk {}", shell::word(format!("host:{path}={path}").as_bytes()))?;
    }
    if sources.len() > MOST {
        writeln!(err, "  and {} more like these", sources.len() - MOST)?;
    }
    Ok(writeln!(err)?)
}
