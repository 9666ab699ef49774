//! Options of a tmpfs (`tmpfs(5)`; the kernel's `shmem_fs_parameters`).

use mivask_core::mode::Mode;
use mivask_core::mount::MountFlags;
use mivask_core::scene::TmpfsAsked;

/// What one option is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Told {
    /// It was taken, or decides nothing here.
    Taken,
    /// No engine takes a word like this.
    Unknown,
}

/// How mounts below it spread: nothing that an actor sees.
const SPREAD: [&str; 8] =
    ["private", "rprivate", "shared", "rshared", "slave", "rslave", "unbindable", "runbindable"];

/// Other words that Docker passes on and that decide nothing about owners, modes and access.
const IDLE: [&str; 14] = [
    "defaults",
    "async",
    "sync",
    "dirsync",
    "atime",
    "noatime",
    "diratime",
    "nodiratime",
    "relatime",
    "norelatime",
    "strictatime",
    "nostrictatime",
    "mand",
    "nomand",
];

/// Adds an option to what is asked of a tmpfs. A value that the kernel refuses stays in [`TmpfsAsked::refused`].
pub(crate) fn take(option: &str, asked: &mut TmpfsAsked) -> Told {
    let (key, value) = option.split_once('=').map_or((option, None), |(key, value)| (key, Some(value)));
    let fits = match (key, value) {
        ("mode", Some(value)) => {
            // `fsparam_u32oct`; bits above 07777 are masked.
            let bits = u32::from_str_radix(value, 8).ok();
            asked.mode = bits.and_then(|bits| u16::try_from(bits & 0o7777).ok()).map(Mode::new);
            bits.is_some()
        }
        ("uid", Some(value)) => {
            asked.uid = id(value);
            asked.uid.is_some()
        }
        ("gid", Some(value)) => {
            asked.gid = id(value);
            asked.gid.is_some()
        }
        ("size", Some(value)) => amount(value.strip_suffix('%').unwrap_or(value)),
        ("nr_inodes" | "nr_blocks", Some(value)) => {
            asked.other.get_or_insert_with(|| option.into());
            amount(value)
        }
        ("mpol", Some(_)) => {
            asked.other.get_or_insert_with(|| option.into());
            true
        }
        ("exec", None) => {
            asked.cleared = asked.cleared.with(MountFlags::NO_EXEC);
            true
        }
        ("suid", None) => {
            asked.cleared = asked.cleared.with(MountFlags::NO_SUID);
            true
        }
        ("dev", None) => {
            asked.cleared = asked.cleared.with(MountFlags::NO_DEV);
            true
        }
        ("rw", None) => true,
        ("tmpcopyup" | "copyup" | "notmpcopyup" | "nocopyup", None) => {
            asked.copies_up = Some(!option.starts_with("no"));
            true
        }
        (word, None) if SPREAD.contains(&word) => true,
        (word, None) if IDLE.contains(&word) => {
            asked.other.get_or_insert_with(|| option.into());
            true
        }
        // Docker's and Podman's lists of flags end before this one.
        (word, None) => match MountFlags::by_word(word).filter(|flag| *flag != MountFlags::NO_SYMFOLLOW) {
            Some(flag) => {
                asked.added = asked.added.with(flag);
                true
            }
            None => return Told::Unknown,
        },
        (_, Some(_)) => return Told::Unknown,
    };
    if !fits {
        asked.refused.get_or_insert_with(|| option.into());
    }
    Told::Taken
}

/// An id as `kstrtouint` reads it, in decimal, octal or hexadecimal; -1 is none (`make_kuid`).
fn id(text: &str) -> Option<u32> {
    let number = match (text.strip_prefix("0x"), text.strip_prefix('0')) {
        (Some(digits), _) => u32::from_str_radix(digits, 16),
        (None, Some(digits)) if !digits.is_empty() => u32::from_str_radix(digits, 8),
        (None, _) => text.parse(),
    };
    number.ok().filter(|number| *number != u32::MAX)
}

/// A number with a unit, as the kernel's `memparse` reads it.
fn amount(text: &str) -> bool {
    let digits = text.strip_suffix(|unit: char| "kmgtpeKMGTPE".contains(unit)).unwrap_or(text);
    !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
}
