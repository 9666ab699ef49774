//! `/proc/PID/status` (proc_pid_status(5)).

/// What it says about identity.
#[derive(Debug)]
pub(super) struct Status {
    /// `Name`: at most 15 bytes.
    pub name: String,
    /// The file system user id of `Uid`, in the reader's user namespace.
    pub uid: u32,
    /// The file system group id of `Gid`.
    pub gid: u32,
    /// `Groups`.
    pub groups: Vec<u32>,
    /// `CapEff`, `CapPrm`, `CapBnd`, `CapInh` and `CapAmb` as bits.
    pub capabilities: [u64; 5],
    /// `Umask`; kernels before 4.7 do not have it.
    pub umask: Option<u16>,
    /// `NoNewPrivs`.
    pub no_new_privileges: bool,
}

impl Status {
    /// `None` where a line that every kernel writes is missing or says something else.
    pub(super) fn read(text: &str) -> Option<Self> {
        let line =
            |key: &str| text.lines().find_map(|line| Some(line.strip_prefix(key)?.strip_prefix(':')?.trim()));
        // Real, effective, saved and file system id: the last decides about files.
        let id = |key: &str| line(key)?.split_whitespace().nth(3)?.parse().ok();
        let set = |key: &str| u64::from_str_radix(line(key)?, 16).ok();
        let groups = line("Groups")?.split_whitespace().map(|id| id.parse().ok());
        Some(Self {
            name: line("Name")?.to_owned(),
            uid: id("Uid")?,
            gid: id("Gid")?,
            groups: groups.collect::<Option<_>>()?,
            capabilities: [
                set("CapEff")?,
                set("CapPrm")?,
                set("CapBnd").unwrap_or_default(),
                set("CapInh").unwrap_or_default(),
                set("CapAmb").unwrap_or_default(),
            ],
            umask: line("Umask").and_then(|bits| u16::from_str_radix(bits, 8).ok()),
            no_new_privileges: line("NoNewPrivs") == Some("1"),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::Status;

    #[test]
    fn the_last_of_four_ids_counts() {
        let text = "Name:\tgauge\nUmask:\t0027\nUid:\t1\t2\t3\t7101\nGid:\t1\t2\t3\t7200\nGroups:\t7200 7300 \n\
                    CapPrm:\t0000000000000003\nCapEff:\t0000000000000001\nCapBnd:\t000001ffffffffff\nNoNewPrivs:\t1\n";
        let status = Status::read(text).expect("it is whole");
        assert_eq!((status.uid, status.gid, status.groups), (7101, 7200, vec![7200, 7300]));
        assert_eq!(status.capabilities, [1, 3, 0x1ff_ffff_ffff, 0, 0]);
        assert_eq!((status.umask, status.no_new_privileges), (Some(0o027), true));
        assert!(Status::read(&text.replace("CapEff", "CapOld")).is_none());
    }
}
