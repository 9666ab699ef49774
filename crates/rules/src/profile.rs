//! The AppArmor profile that engines give a container that asks for none, as far as files go.
//!
//! Docker's `docker-default`, containerd's and CRI-O's are made from one text, and Podman's from the same rules: files are free but for
//! what is denied below (`profiles/apparmor/template.go` of Docker 20 to 26, `pkg/apparmor` of Podman 4; a test holds this table
//! against the texts in the programs that are installed, compiled by `apparmor_parser`). Rules are about paths as the
//! container sees them, whatever is mounted there.

/// Whether a container has such a profile.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Profile {
    /// It has, if its host has AppArmor, of which nothing is said.
    Perhaps,
    /// It has.
    Default,
}

/// What an act does to the file that a path names, by the letters of a profile's rules.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Letters(u8);

impl Letters {
    /// `r`: opening for reading.
    pub const READ: Self = Self(1);
    /// `w`: opening for writing, making, removing, and changes of mode and owner (`map_old_perms`, security/apparmor/file.c).
    pub const WRITE: Self = Self(2);
    /// `l`: being the new name of a hard link.
    pub const LINK: Self = Self(4);
    /// `x`: being run.
    pub const RUN: Self = Self(8);
    /// Opening for both.
    pub const READ_WRITE: Self = Self(3);

    const fn meets(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }
}

const ALL_BUT_READ: Letters = Letters(Letters::WRITE.0 | Letters::LINK.0 | Letters::RUN.0);
const ALL: Letters = Letters(ALL_BUT_READ.0 | Letters::READ.0);

/// What is denied, and what of it.
pub const DENIED: [(&str, Letters); 15] = [
    ("/proc/*", Letters::WRITE),
    ("/proc/[^1-9]/**", Letters::WRITE),
    ("/proc/[^1-9][^0-9]/**", Letters::WRITE),
    ("/proc/[^1-9s][^0-9y][^0-9s]/**", Letters::WRITE),
    ("/proc/[^1-9][^0-9][^0-9][^0-9]*/**", Letters::WRITE),
    ("/proc/sys/[^k]**", Letters::WRITE),
    ("/proc/sys/kernel/{?,??,[^s][^h][^m]**}", Letters::WRITE),
    ("/proc/sysrq-trigger", ALL),
    ("/proc/kcore", ALL),
    ("/sys/[^f]*/**", ALL_BUT_READ),
    ("/sys/f[^s]*/**", ALL_BUT_READ),
    ("/sys/fs/{[^c]*/**,c[^g]*/**,cg[^r]*/**}", ALL_BUT_READ),
    ("/sys/firmware/**", ALL),
    ("/sys/kernel/security/**", ALL),
    // Of Docker from 24 on alone; what all have denies writing there.
    (POWERCAP, ALL),
];

/// What older profiles let be read.
const POWERCAP: &str = "/sys/devices/virtual/powercap/**";

/// The rule that denies one of `letters` on the file at `path`; one of a directory ends with a slash.
#[must_use]
pub fn denies(path: &[u8], letters: Letters) -> Option<&'static str> {
    if !is_near(path) {
        return None;
    }
    let denied = |(rule, of): &(&str, Letters)| of.meets(letters) && matches(rule.as_bytes(), path);
    DENIED.iter().find(|rule| denied(rule)).map(|(rule, _)| *rule)
}

/// Whether the engine's age decides about what `rule` denies.
#[must_use]
pub fn is_of_newer_engines(rule: &str) -> bool {
    rule == POWERCAP
}

/// Whether a rule could be about `path`.
#[must_use]
pub fn is_near(path: &[u8]) -> bool {
    path.starts_with(b"/proc/") || path.starts_with(b"/sys/")
}

/// Whether `path` is one of those that `rule` means (apparmor.d(5), "Globbing"): `*` is anything but a slash, at least one byte behind a
/// slash; `**` anything; `[^...]` one byte, a slash too; `?` one that is none.
fn matches(rule: &[u8], path: &[u8]) -> bool {
    // What stands for at least one byte behind a slash, `/*` and `/**`, takes one that is no slash first.
    let star = |rest: &[u8], path: &[u8], crosses: bool| {
        let most = path.iter().position(|byte| !crosses && *byte == b'/').unwrap_or(path.len());
        (0..=most).any(|taken| matches(rest, &path[taken..]))
    };
    match rule {
        [] => path.is_empty(),
        [b'/', rest @ ..] if rest.first() == Some(&b'*') => {
            path.first() == Some(&b'/')
                && path.get(1).is_some_and(|byte| *byte != b'/')
                && matches(rest, &path[1..])
        }
        [b'*', b'*', rest @ ..] => star(rest, path, true),
        [b'*', rest @ ..] => star(rest, path, false),
        [b'?', rest @ ..] => {
            path.split_first().is_some_and(|(byte, path)| *byte != b'/' && matches(rest, path))
        }
        [b'[', b'^', set @ ..] => {
            let Some(end) = set.iter().position(|byte| *byte == b']') else { return false };
            let (set, rest) = (&set[..end], &set[end + 1..]);
            path.split_first().is_some_and(|(byte, path)| !is_in(*byte, set) && matches(rest, path))
        }
        [b'{', choices @ ..] => {
            let Some(end) = choices.iter().position(|byte| *byte == b'}') else { return false };
            let (choices, rest) = (&choices[..end], &choices[end + 1..]);
            choices.split(|byte| *byte == b',').any(|choice| matches(&[choice, rest].concat(), path))
        }
        [byte, rest @ ..] => path.first() == Some(byte) && matches(rest, &path[1..]),
    }
}

/// Whether `byte` is in a set such as `1-9s`.
fn is_in(byte: u8, set: &[u8]) -> bool {
    match set {
        [low, b'-', high, rest @ ..] => (*low..=*high).contains(&byte) || is_in(byte, rest),
        [one, rest @ ..] => *one == byte || is_in(byte, rest),
        [] => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_name_what_they_deny() {
        let told = |path: &str, letters| denies(path.as_bytes(), letters);
        assert_eq!(told("/proc/kcore", Letters::READ), Some("/proc/kcore"));
        assert_eq!(told("/proc/uptime", Letters::READ), None);
        assert_eq!(told("/proc/uptime", Letters::WRITE), Some("/proc/*"));
        assert_eq!(told("/proc/17/oom_score_adj", Letters::WRITE), None);
        assert_eq!(
            told("/proc/sys/kernel/shmmax", Letters::WRITE),
            Some("/proc/[^1-9][^0-9][^0-9][^0-9]*/**")
        );
        assert_eq!(told("/sys/fs/cgroup/memory/x", Letters::WRITE), None);
        assert_eq!(told("/sys/block/a/b", Letters::WRITE), Some("/sys/[^f]*/**"));
        assert_eq!(told("/sys/firmware/", Letters::READ), None);
        assert_eq!(told("/sys/firmware/efi/", Letters::READ), Some("/sys/firmware/**"));
        assert_eq!(told("/srv/proc/kcore", Letters::READ), None);
    }
}
