//! Programs of the system that building needs. They run as root, so neither the caller's search path nor its environment says which
//! they are or what they do.

use std::path::PathBuf;
use std::process::Command;

use crate::{Doing, KernelError, namespace};

/// Where they are looked for; no other place counts.
const FOLDERS: [&str; 4] = ["/usr/sbin", "/sbin", "/usr/bin", "/bin"];

/// Whether the system has the program `name`.
#[must_use]
pub fn has_tool(name: &str) -> bool {
    path_of(name).is_some()
}

fn path_of(name: &str) -> Option<PathBuf> {
    FOLDERS.iter().map(|folder| PathBuf::from(folder).join(name)).find(|path| path.is_file())
}

/// The program `name` with nothing of the caller's environment; the rest is left to whoever runs it.
///
/// # Errors
/// It is not installed.
pub(crate) fn command(name: &str) -> Result<Command, KernelError> {
    let path = path_of(name).ok_or_else(|| {
        KernelError::Unsupported(format!("{name} is not installed in {}", FOLDERS.join(", ")))
    })?;
    let mut command = Command::new(path);
    command.env_clear().env("PATH", FOLDERS.join(":")).env("LC_ALL", "C").current_dir("/");
    Ok(command)
}

/// Runs `command` to its end.
pub(crate) fn run(command: &mut Command) -> Result<(), KernelError> {
    let program = command.get_program().to_string_lossy();
    let name = program.rsplit('/').next().unwrap_or_default().to_owned();
    drop(program);
    let output = {
        let _alone = namespace::nobody_builds();
        command.output().doing(|| format!("running {name}"))?
    };
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let said = said.lines().find(|line| !line.trim().is_empty()).unwrap_or("without a word");
    Err(KernelError::Unsupported(format!("{name} failed: {said}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_callers_environment_decides_nothing() {
        let command = command("env").expect("every system has env");
        assert!(
            FOLDERS
                .iter()
                .any(|folder| command.get_program() == PathBuf::from(folder).join("env").as_os_str())
        );
        let mut command = command;
        let output = command.output().expect("env runs");
        let said = String::from_utf8_lossy(&output.stdout);
        let names: Vec<&str> = said.lines().filter_map(|line| line.split('=').next()).collect();
        assert!(names.iter().all(|name| ["PATH", "LC_ALL", "PWD", "_", "SHLVL"].contains(name)), "{names:?}");
        assert!(super::command("no-such-tool").is_err() && !has_tool("no-such-tool"));
    }
}
