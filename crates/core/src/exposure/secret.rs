//! Names that keys and passwords usually have.

/// Whole names.
const NAMES: [&str; 16] = [
    "id_rsa",
    "id_ecdsa",
    "id_ed25519",
    "id_dsa",
    "shadow",
    "gshadow",
    "shadow-",
    "gshadow-",
    ".pgpass",
    ".netrc",
    ".env",
    ".htpasswd",
    "htpasswd",
    "credentials",
    "tls.key",
    "authorized_keys2",
];

/// Endings.
const ENDINGS: [&str; 10] =
    [".key", ".p12", ".pfx", ".jks", ".keystore", ".kdbx", ".ppk", ".keytab", "_key", "-key.pem"];

/// Whether a file of that name is likely a key or a password.
#[must_use]
pub(super) fn is_secret(path: &[u8]) -> bool {
    let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or(path).to_ascii_lowercase();
    let Ok(name) = std::str::from_utf8(&name) else { return false };
    NAMES.contains(&name) || ENDINGS.iter().any(|ending| name.len() > ending.len() && name.ends_with(ending))
}

#[cfg(test)]
mod tests {
    use super::is_secret;

    #[test]
    fn keys_are_told_from_what_only_sounds_like_one() {
        for name in
            ["/etc/ssh/ssh_host_ed25519_key", "/k/TLS.key", "/root/.netrc", "/etc/shadow", "/k/a-key.pem"]
        {
            assert!(is_secret(name.as_bytes()), "{name}");
        }
        for name in
            ["/etc/ssh/ssh_host_ed25519_key.pub", "/ca.pem", "/keys", "/.key", "/monkey", "/a/keyboard.txt"]
        {
            assert!(!is_secret(name.as_bytes()), "{name}");
        }
        assert!(!is_secret(b"/\xff.key"), "no UTF-8, no guess");
    }
}
