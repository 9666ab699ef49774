//! vfat, msdos and exfat: no owners or modes on the disk (fs/fat/inode.c, fs/exfat/inode.c).

use super::masks::Masks;
use super::{Feature, OptionError, Shown, Support, octal};
use crate::ids::{DiskGid, DiskUid};
use crate::mode::Mode;
use crate::outcome::Errno;

/// Their options.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Fat {
    masks: Masks,
    /// Refused changes of owner and mode pretend to succeed.
    quiet: bool,
    /// Who besides the owner may set times, as write bits; the umask's complement where left out.
    time_bits: Option<Mode>,
    is_exfat: bool,
}

impl Fat {
    pub(super) fn exfat() -> Self {
        Self { is_exfat: true, ..Self::default() }
    }

    pub(super) fn option(&mut self, key: &str, value: Option<&str>) -> Result<bool, OptionError> {
        match key {
            "allow_utime" => self.time_bits = Some(octal(value)?.masked(Mode::new(0o022))),
            "quiet" if !self.is_exfat => self.quiet = true,
            "iocharset" | "codepage" | "utf8" | "shortname" | "errors" | "flush" | "discard" | "tz" => {}
            _ => return self.masks.option(key, value),
        }
        Ok(true)
    }

    /// Owner and mode of every file, as the options say.
    #[must_use]
    pub const fn shown(&self) -> Shown {
        self.masks.shown()
    }

    /// What setting the owner comes to: other ids than those shown are EPERM (`fat_setattr`).
    ///
    /// # Errors
    /// EPERM, unless `quiet` swallows it.
    pub fn sets_owner(&self, uid: Option<DiskUid>, gid: Option<DiskGid>) -> Result<(), Errno> {
        let same = uid.is_none_or(|uid| uid.raw() == self.masks.uid)
            && gid.is_none_or(|gid| gid.raw() == self.masks.gid);
        if same || self.quiet { Ok(()) } else { Err(Errno::EPERM) }
    }

    /// The mode a file or directory of `current` has after a chmod to `wanted`: only a file's w bits can go,
    /// all together; anything else is silently left as it was, set-id and sticky bits are EPERM
    /// (`fat_sanitize_mode`).
    ///
    /// # Errors
    /// EPERM, unless `quiet` swallows it.
    pub fn sets_mode(&self, wanted: Mode, current: Mode, directory: bool) -> Result<Mode, Errno> {
        if wanted.has_any(Mode::new(0o7000)) {
            return if self.quiet { Ok(current) } else { Err(Errno::EPERM) };
        }
        let mask = if directory { self.masks.directory } else { self.masks.file };
        let write = Mode::new(0o222);
        let rest = Mode::new(0o555);
        let wanted = wanted.without(mask);
        let all_writes = write.without(mask);
        let keeps_rest = wanted.masked(rest) == current.masked(rest);
        let can_be_read_only = !directory && all_writes.has_any(write);
        let writes = wanted.masked(write);
        let allowed = writes == all_writes || can_be_read_only && writes == Mode::default();
        Ok(if keeps_rest && allowed { wanted } else { current })
    }

    /// Whether others than the owner may set explicit times (`fat_allow_set_time`).
    pub fn lets_set_times(&self, in_group: bool) -> bool {
        let bits = self.time_bits.unwrap_or(Mode::new(0o022).without(self.masks.directory));
        bits.has(if in_group { Mode::new(0o020) } else { Mode::new(0o002) })
    }
}

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes => Support::No(Errno::EPERM),
        Feature::Attributes | Feature::Acls => Support::No(Errno::EOPNOTSUPP),
        Feature::Owners | Feature::Modes => Support::Yes,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mode_can_only_lose_and_regain_its_w_bits() {
        let stick = Fat::default();
        let current = stick.shown().file;
        assert_eq!(stick.sets_mode(Mode::new(0o555), current, false), Ok(Mode::new(0o555)));
        assert_eq!(stick.sets_mode(Mode::new(0o600), current, false), Ok(current));
        assert_eq!(stick.sets_mode(Mode::new(0o4755), current, false), Err(Errno::EPERM));
        assert_eq!(stick.sets_mode(Mode::new(0o555), current, true), Ok(current), "no read-only directories");
    }

    #[test]
    fn an_owner_can_only_be_set_to_what_is_shown() {
        let mut stick = Fat::default();
        assert_eq!(stick.sets_owner(Some(DiskUid::new(7101)), None), Err(Errno::EPERM));
        assert_eq!(stick.sets_owner(Some(DiskUid::new(0)), Some(DiskGid::new(0))), Ok(()));
        stick.option("quiet", None).unwrap();
        assert_eq!(stick.sets_owner(Some(DiskUid::new(7101)), None), Ok(()));
    }
}
