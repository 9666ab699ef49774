//! What became of one command.

/// How far a command is understood.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Done {
    /// What it does is done, or it failed for certain.
    Known,
    /// It changes nothing, but whether it fails is not known.
    Unsure,
    /// It may have done anything within its reach.
    Unread,
}

/// A tool by its name alone.
pub(super) fn bare(tool: &str) -> &str {
    let places = ["/bin/", "/usr/bin/", "/usr/sbin/", "/sbin/", "/usr/local/bin/"];
    places.iter().find_map(|place| tool.strip_prefix(place)).unwrap_or(tool)
}
