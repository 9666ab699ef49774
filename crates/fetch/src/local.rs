//! Where tools keep things for a user (XDG base directory specification).

use std::ffi::OsString;
use std::path::PathBuf;

/// An environment variable; an empty one counts as none.
pub(crate) fn variable(name: &str) -> Option<OsString> {
    std::env::var_os(name).filter(|value| !value.is_empty())
}

/// The same as text.
pub(crate) fn word(name: &str) -> Option<String> {
    variable(name)?.into_string().ok()
}

/// The user's folder.
pub(crate) fn home() -> Option<PathBuf> {
    variable("HOME").map(PathBuf::from).filter(|path| path.is_absolute())
}

/// A folder of the specification: relative paths in these variables are to be passed over.
fn folder(name: &str, below_home: &str) -> Option<PathBuf> {
    let given = variable(name).map(PathBuf::from).filter(|path| path.is_absolute());
    given.or_else(|| home().map(|home| home.join(below_home)))
}

/// `$XDG_CONFIG_HOME`
pub(crate) fn config() -> Option<PathBuf> {
    folder("XDG_CONFIG_HOME", ".config")
}

/// `$XDG_CACHE_HOME`
pub(crate) fn cache() -> Option<PathBuf> {
    folder("XDG_CACHE_HOME", ".cache")
}

/// `$XDG_RUNTIME_DIR`, or where it usually is.
pub(crate) fn runtime() -> PathBuf {
    let given = variable("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|path| path.is_absolute());
    given.unwrap_or_else(|| format!("/run/user/{}", rustix::process::geteuid().as_raw()).into())
}
