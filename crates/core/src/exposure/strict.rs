//! Programs that look at the mode of a file before they use it, and refuse what is too wide (docs/facts/tools.md section 4).

use mivask_model::mode::Mode;
use mivask_model::path::parent;

use crate::finding::Limit;

/// Whose a file is, as its reader sees it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Whose {
    /// The reader's own.
    Own,
    /// Root's, and the reader is not root.
    Root,
    /// Somebody else's.
    Other,
}

/// How a program looks at a file.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Strict {
    /// What it looks at: the file, or the directory that the file tells of.
    pub path: Vec<u8>,
    /// The bits that it does not take.
    pub refused: Mode,
    /// What it does then, and which function says so.
    pub then: &'static str,
}

const SSH_KEY: &str =
    "ssh and sshd refuse a key of their own user that others may use (OpenSSH, sshkey_perm_ok)";
const SSH_FILE: &str = "ssh and sshd refuse it where others may write it (OpenSSH, safe_path; Debian's take the user's own group)";
const DATA: &str = "the database server refuses a data directory that its group may write or others may use (PostgreSQL, checkDataDir)";
const SERVER_KEY: &str =
    "the database server refuses a key that others may use (PostgreSQL, check_ssl_key_file_permissions)";
const PASSWORDS: &str = "libpq ignores a password file that others may use (PostgreSQL, passwordFromFile)";
const COOKIE: &str =
    "the Erlang runtime refuses a cookie that others may use (Erlang/OTP, auth:check_attributes)";

/// Keys of ssh by name; those of sshd are `ssh_host_*_key`.
const SSH_KEYS: [&[u8]; 6] =
    [b"id_rsa", b"id_dsa", b"id_ecdsa", b"id_ecdsa_sk", b"id_ed25519", b"id_ed25519_sk"];

/// How strictly what is at `path` is looked at, if that is known; `there` tells whether another path is.
pub(super) fn strict(path: &[u8], whose: Whose, there: &dyn Fn(&[u8]) -> bool) -> Option<Strict> {
    let name = path.rsplit(|byte| *byte == b'/').next()?;
    let directory = parent(path);
    let asked = |path: &[u8], refused: u16, then| {
        Some(Strict { path: path.to_vec(), refused: Mode::new(refused), then })
    };
    let host_key = name.starts_with(b"ssh_host_") && name.ends_with(b"_key");
    match (name, whose) {
        (_, Whose::Own) if SSH_KEYS.contains(&name) || host_key => asked(path, 0o077, SSH_KEY),
        // Of somebody else's it takes what it can read.
        _ if SSH_KEYS.contains(&name) || host_key => asked(path, 0, SSH_KEY),
        (b"config" | b"authorized_keys", Whose::Own | Whose::Root) if directory.ends_with(b"/.ssh") => {
            asked(path, 0o022, SSH_FILE)
        }
        (b".pgpass", _) => asked(path, 0o077, PASSWORDS),
        (b".erlang.cookie", _) => asked(path, 0o077, COOKIE),
        (b"PG_VERSION", Whose::Own) if is_cluster(directory) => asked(directory, 0o027, DATA),
        (b"server.key", _) if there(&[directory, b"/PG_VERSION"].concat()) => match whose {
            Whose::Own => asked(path, 0o077, SERVER_KEY),
            Whose::Root => asked(path, 0o037, SERVER_KEY),
            Whose::Other => None,
        },
        _ => None,
    }
}

/// Each database has a version file of its own, in `base/NUMBER` or `PG_VERSION_CATALOG/NUMBER` of a tablespace; nobody looks
/// at the modes of those directories.
fn is_cluster(directory: &[u8]) -> bool {
    let mut names = directory.rsplit(|byte| *byte == b'/');
    let numbered = names.next().unwrap_or_default().iter().all(u8::is_ascii_digit);
    let above = names.next().unwrap_or_default();
    !(numbered && (above == b"base" || above.starts_with(b"PG_")))
}

impl Strict {
    /// One sentence for all paths of a kind.
    pub(super) fn consequence(&self, step: bool) -> String {
        let step = if step { "; the filesystem-group step is what widened it" } else { "" };
        format!("{}{step}", self.then)
    }

    /// The limit that it sets.
    pub(super) fn limit(&self) -> Limit {
        let mode = Mode::new(0o7777).without(self.refused);
        Limit { actor: None, path: self.path.clone(), mode, owner: None }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn looked(path: &str, whose: Whose) -> Option<(String, u16)> {
        let there = |other: &[u8]| other == b"/d/PG_VERSION";
        let strict = strict(path.as_bytes(), whose, &there)?;
        Some((String::from_utf8(strict.path).expect("text"), strict.refused.bits()))
    }

    #[test]
    fn who_looks_at_what() {
        for (path, whose, wanted) in [
            ("/k/id_ed25519", Whose::Own, Some(("/k/id_ed25519", 0o077))),
            // The check is for the user's own keys alone: one of root's may be read by a group.
            ("/k/id_ed25519", Whose::Root, Some(("/k/id_ed25519", 0))),
            ("/k/id_ed25519.pub", Whose::Own, None),
            ("/etc/ssh/ssh_host_rsa_key", Whose::Own, Some(("/etc/ssh/ssh_host_rsa_key", 0o077))),
            ("/root/.ssh/config", Whose::Root, Some(("/root/.ssh/config", 0o022))),
            ("/etc/app/config", Whose::Own, None),
            ("/d/PG_VERSION", Whose::Own, Some(("/d", 0o027))),
            ("/v/15/PG_VERSION", Whose::Own, Some(("/v/15", 0o027))),
            ("/d/base/15/PG_VERSION", Whose::Own, None),
            ("/t/PG_15_202209061/16384/PG_VERSION", Whose::Own, None),
            ("/d/server.key", Whose::Own, Some(("/d/server.key", 0o077))),
            ("/d/server.key", Whose::Root, Some(("/d/server.key", 0o037))),
            ("/e/server.key", Whose::Own, None),
            ("/root/.pgpass", Whose::Other, Some(("/root/.pgpass", 0o077))),
        ] {
            let wanted = wanted.map(|(path, bits)| (path.to_owned(), bits));
            assert_eq!(looked(path, whose), wanted, "{path} {whose:?}");
        }
    }
}
