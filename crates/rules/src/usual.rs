//! What a missing fact usually is, where a mount is asked about: the answer that [`mivask_model::usual`] gives to the question.

use mivask_model::fact::Unknown;
use mivask_model::usual::{Usual, UsualRule};

/// An answer that is usual, and of which possibility.
pub type Answer = Option<(Usual, usize)>;

/// Which possibility is usual for a mount of which several sources are possible.
#[must_use]
pub fn variant(unknown: &Unknown) -> Answer {
    let usual = unknown.usual.as_deref().filter(|usual| usual.rule == UsualRule::GroupApplied)?;
    Some((usual.clone(), 0))
}

/// That the kubelet makes a directory of it: a part of a new claim.
pub(crate) fn made(unknown: &Unknown) -> Answer {
    let usual = unknown.usual.as_deref().filter(|usual| usual.rule == UsualRule::NewClaim)?;
    Some((usual.clone(), 0))
}

/// That what is mounted at `at` is a directory. A name with a dot, or one among devices and account files, may as well be
/// a file's.
pub(crate) fn kind(at: &[u8]) -> Answer {
    let name = at.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    let dotted = name.iter().skip(1).any(|byte| *byte == b'.') && !name.ends_with(b".d");
    let files = ["/dev/", "/proc/", "/sys/", "/run/"].iter().any(|above| at.starts_with(above.as_bytes()));
    let in_etc = at.strip_prefix(b"/etc/").is_some_and(|rest| !rest.contains(&b'/'));
    let ends = name.to_ascii_lowercase();
    let of_files = [b"file".as_slice(), b"sock", b"socket", b"rc", b"key", b"token"];
    let named = of_files.iter().any(|end| ends.ends_with(end));
    if dotted || files || in_etc || named || name.is_empty() {
        return None;
    }
    let says = format!("what is mounted at {} is a directory", String::from_utf8_lossy(at));
    Some((Usual::new(UsualRule::MountIsDirectory, &says), 0))
}

#[cfg(test)]
mod tests {
    use super::kind;

    #[test]
    fn only_names_without_an_ending_are_usually_directories() {
        for at in ["/data", "/var/lib/app", "/etc/nginx/conf.d", "/home/me/.cache"] {
            assert!(kind(at.as_bytes()).is_some(), "{at}");
        }
        for at in ["/etc/app.conf", "/etc/passwd", "/dev/fuse", "/run/docker.sock", "/x/Caddyfile", "/"] {
            assert!(kind(at.as_bytes()).is_none(), "{at}");
        }
    }
}
