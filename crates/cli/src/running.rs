//! What runs here, as an input.

use std::io::Write;

use mivask_core::scene::Scene;
use mivask_disk::process::Reach;
use mivask_read::input::InputError;
use mivask_read::process;

use crate::containers;
use crate::end::Failure;
use crate::options::Input;
use crate::{policies, terminal};

/// A running process, or a container that runs here, with the part of its files that is asked about.
pub(crate) fn running(input: &Input, reach: &Reach, err: &mut dyn Write) -> Result<Option<Scene>, Failure> {
    let of = |pid| mivask_disk::process::look(pid, reach);
    if let Some(pid) = process::named(&input.input) {
        let process = of(pid).map_err(Failure::Disk)?;
        let mut scene = process::scene(process, mivask_kernel::settings());
        policies::here(&mut scene);
        return Ok(Some(scene));
    }
    let Some(named) = containers::Named::of(&input.input) else { return Ok(None) };
    let name = input.input.display().to_string();
    let json = named.json().map_err(|error| Failure::Input(InputError::Io { name, error }))?;
    let Some((pid, name)) = named.process(&json) else { return Ok(None) };
    match of(pid) {
        Ok(found) => {
            let mut scene = process::scene_called(&name, found, mivask_kernel::settings());
            policies::here(&mut scene);
            Ok(Some(scene))
        }
        Err(error) => {
            let shown = mivask_show::safe(&name);
            if !terminal::is_quiet() {
                writeln!(
                    err,
                    "note: {shown} runs here as process {pid}, and what its engine says is used: {error}"
                )?;
            }
            Ok(None)
        }
    }
}
