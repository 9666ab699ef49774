//! Linux capabilities (capabilities(7)) as a set of bits.

mod file;

use std::fmt;

pub use file::{FileCapabilities, FileCapabilitiesError};

macro_rules! capabilities {
    ($($variant:ident = $bit:literal $name:literal),+ $(,)?) => {
        /// One Linux capability; the number is its bit in `/proc/PID/status`.
        #[expect(missing_docs, reason = "the names are those of capabilities(7)")]
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub enum Capability { $($variant = $bit),+ }

        impl Capability {
            /// Every capability, by bit number.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// The name without the `CAP_` prefix, in capitals.
            #[must_use]
            pub const fn name(self) -> &'static str {
                match self { $(Self::$variant => $name),+ }
            }
        }
    };
}

capabilities! {
    Chown = 0 "CHOWN", DacOverride = 1 "DAC_OVERRIDE", DacReadSearch = 2 "DAC_READ_SEARCH",
    Fowner = 3 "FOWNER", Fsetid = 4 "FSETID", Kill = 5 "KILL", Setgid = 6 "SETGID",
    Setuid = 7 "SETUID", Setpcap = 8 "SETPCAP", LinuxImmutable = 9 "LINUX_IMMUTABLE",
    NetBindService = 10 "NET_BIND_SERVICE", NetBroadcast = 11 "NET_BROADCAST",
    NetAdmin = 12 "NET_ADMIN", NetRaw = 13 "NET_RAW", IpcLock = 14 "IPC_LOCK",
    IpcOwner = 15 "IPC_OWNER", SysModule = 16 "SYS_MODULE", SysRawio = 17 "SYS_RAWIO",
    SysChroot = 18 "SYS_CHROOT", SysPtrace = 19 "SYS_PTRACE", SysPacct = 20 "SYS_PACCT",
    SysAdmin = 21 "SYS_ADMIN", SysBoot = 22 "SYS_BOOT", SysNice = 23 "SYS_NICE",
    SysResource = 24 "SYS_RESOURCE", SysTime = 25 "SYS_TIME", SysTtyConfig = 26 "SYS_TTY_CONFIG",
    Mknod = 27 "MKNOD", Lease = 28 "LEASE", AuditWrite = 29 "AUDIT_WRITE",
    AuditControl = 30 "AUDIT_CONTROL", Setfcap = 31 "SETFCAP", MacOverride = 32 "MAC_OVERRIDE",
    MacAdmin = 33 "MAC_ADMIN", Syslog = 34 "SYSLOG", WakeAlarm = 35 "WAKE_ALARM",
    BlockSuspend = 36 "BLOCK_SUSPEND", AuditRead = 37 "AUDIT_READ", Perfmon = 38 "PERFMON",
    Bpf = 39 "BPF", CheckpointRestore = 40 "CHECKPOINT_RESTORE",
}

impl Capability {
    /// The capability of that exact name, any letter case, without a `CAP_` prefix.
    #[must_use]
    pub fn by_bare_name(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|cap| cap.name().eq_ignore_ascii_case(name))
    }

    /// Like [`Self::by_bare_name`], with or without a `CAP_` prefix.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Self> {
        let bare = match name.get(..4) {
            Some(prefix) if prefix.eq_ignore_ascii_case("CAP_") => &name[4..],
            Some(_) | None => name,
        };
        Self::by_bare_name(bare)
    }
}

/// A set of capabilities, one bit each as in `/proc/PID/status`.
#[derive(Clone, Copy, PartialEq, Eq, Default, Hash)]
pub struct CapabilitySet(u64);

impl CapabilitySet {
    /// No capability.
    pub const EMPTY: Self = Self(0);
    /// All 41 capabilities of Linux 6.x.
    pub const ALL: Self = Self((1 << 41) - 1);

    /// The set with the bits of `raw` that name a capability.
    #[must_use]
    pub const fn from_bits(raw: u64) -> Self {
        Self(raw & Self::ALL.0)
    }

    /// The bits, as in `/proc/PID/status`.
    #[must_use]
    pub const fn bits(self) -> u64 {
        self.0
    }

    /// Whether `cap` is in the set.
    #[must_use]
    pub const fn has(self, cap: Capability) -> bool {
        self.0 & (1 << cap as u64) != 0
    }

    /// Whether the set holds nothing.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// With `cap` added.
    #[must_use]
    pub const fn with(self, cap: Capability) -> Self {
        Self(self.0 | (1 << cap as u64))
    }

    /// Everything in either set.
    #[must_use]
    pub const fn union(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// What is in both sets.
    #[must_use]
    pub const fn intersection(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// Whether everything in `other` is in here.
    #[must_use]
    pub const fn contains(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// What is here and not in `other`.
    #[must_use]
    pub const fn minus(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// With `cap` removed.
    #[must_use]
    pub const fn without(self, cap: Capability) -> Self {
        Self(self.0 & !(1 << cap as u64))
    }

    /// The members, by bit number.
    pub fn iter(self) -> impl Iterator<Item = Capability> {
        Capability::ALL.iter().copied().filter(move |cap| self.has(*cap))
    }
}

impl FromIterator<Capability> for CapabilitySet {
    fn from_iter<I: IntoIterator<Item = Capability>>(caps: I) -> Self {
        caps.into_iter().fold(Self::EMPTY, Self::with)
    }
}

impl fmt::Display for CapabilitySet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_empty() {
            return f.write_str("none");
        }
        if *self == Self::ALL {
            return f.write_str("all");
        }
        for (index, cap) in self.iter().enumerate() {
            write!(f, "{}{}", if index == 0 { "" } else { " " }, cap.name())?;
        }
        Ok(())
    }
}

impl fmt::Debug for CapabilitySet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{{{self}}}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_are_those_of_proc_status() {
        // The default set that containerd and Docker give, as measured.
        let set = CapabilitySet::from_bits(0xa804_25fb);
        assert_eq!(set.iter().count(), 14);
        assert!(set.has(Capability::DacOverride) && !set.has(Capability::DacReadSearch));
        assert_eq!(Capability::ALL.len(), 41);
    }

    #[test]
    fn a_prefix_is_accepted_only_where_asked_for() {
        assert_eq!(Capability::by_name("cap_chown"), Some(Capability::Chown));
        assert_eq!(Capability::by_bare_name("CAP_CHOWN"), None);
        assert_eq!(Capability::by_name("é"), None);
    }
}
