//! What Linux calls the devices below /dev (Documentation/admin-guide/devices.txt, and what udev and the drivers name).

use crate::mode::FileKind;
use crate::tree::Device;

/// What may be at a path below `/dev` of a host of which nobody told.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Guess {
    /// A device whose numbers are the same everywhere.
    Device(FileKind, Device),
    /// A device, or a directory of some.
    Either,
    /// Nothing that the kernel or a driver makes.
    Nothing,
}

/// Devices with one number everywhere: name, whether it is a block device, major, minor.
const FIXED: [(&str, u32, u32); 22] = [
    ("mem", 1, 1),
    ("null", 1, 3),
    ("port", 1, 4),
    ("zero", 1, 5),
    ("full", 1, 7),
    ("random", 1, 8),
    ("urandom", 1, 9),
    ("kmsg", 1, 11),
    ("tty", 5, 0),
    ("console", 5, 1),
    ("ptmx", 5, 2),
    ("watchdog", 10, 130),
    ("nvram", 10, 144),
    ("net/tun", 10, 200),
    ("uinput", 10, 223),
    ("hpet", 10, 228),
    ("fuse", 10, 229),
    ("snapshot", 10, 231),
    ("kvm", 10, 232),
    ("btrfs-control", 10, 234),
    ("loop-control", 10, 237),
    ("vhost-net", 10, 238),
];

/// Names of other devices, and of directories of devices.
const NAMES: [&str; 50] = [
    "autofs",
    "block",
    "bsg",
    "bus",
    "cec",
    "char",
    "core",
    "cpu",
    "cpu_dma_latency",
    "cuse",
    "disk",
    "dma_heap",
    "dri",
    "ecryptfs",
    "fd",
    "hugepages",
    "hwrng",
    "infiniband",
    "initctl",
    "input",
    "kfd",
    "log",
    "mapper",
    "mcelog",
    "mei",
    "mqueue",
    "net",
    "nvidiactl",
    "ppp",
    "ptp",
    "pts",
    "rfkill",
    "rtc",
    "sgx_enclave",
    "sgx_provision",
    "sgx_vepc",
    "shm",
    "snd",
    "stderr",
    "stdin",
    "stdout",
    "udmabuf",
    "uhid",
    "userfaultfd",
    "usb",
    "vcs",
    "vfio",
    "vga_arbiter",
    "vhci",
    "vsock",
];

/// What numbered devices begin with.
const STEMS: [&str; 53] = [
    "accel",
    "cdc-wdm",
    "dax",
    "dm-",
    "drbd",
    "event",
    "fb",
    "gnss",
    "gpiochip",
    "hd",
    "hidraw",
    "hvc",
    "i2c-",
    "iio:device",
    "ipmi",
    "isst_",
    "js",
    "loop",
    "lp",
    "md",
    "media",
    "mei",
    "mmcblk",
    "mouse",
    "mtd",
    "nbd",
    "ng",
    "nst",
    "nvidia",
    "nvme",
    "pmem",
    "pps",
    "ptp",
    "ram",
    "rbd",
    "rfcomm",
    "rpmsg",
    "rtc",
    "sd",
    "sg",
    "spidev",
    "sr",
    "st",
    "tpm",
    "tty",
    "ubi",
    "uio",
    "v4l-subdev",
    "vcs",
    "vd",
    "vhost-",
    "video",
    "xvd",
];

/// What may be called `name`, relative to `/dev`.
#[must_use]
pub fn guess(name: &[u8]) -> Guess {
    let fixed = FIXED.iter().find(|(known, ..)| known.as_bytes() == name);
    if let Some((_, major, minor)) = fixed {
        return Guess::Device(FileKind::CharDevice, Device { major: *major, minor: *minor });
    }
    let first = name.split(|byte| *byte == b'/').next().unwrap_or_default();
    let numbered = |stem: &&str| {
        // Letters and digits count devices, and their partitions behind those.
        let rest = first.strip_prefix(stem.as_bytes());
        rest.is_some_and(|rest| !rest.is_empty() && rest.iter().all(|byte| byte.is_ascii_alphanumeric()))
    };
    let zram = first.starts_with(b"zram");
    if zram || NAMES.iter().any(|known| known.as_bytes() == first) || STEMS.iter().any(numbered) {
        return Guess::Either;
    }
    Guess::Nothing
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn devices_are_known_by_their_names() {
        let null = Device { major: 1, minor: 3 };
        assert_eq!(guess(b"null"), Guess::Device(FileKind::CharDevice, null));
        for name in [
            "sda1",
            "nvme0n1p2",
            "disk/by-id/x",
            "ttyS0",
            "snd/pcmC0D0p",
            "loop7",
            "zram0",
            "tpmrm0",
            "mapper/root",
        ] {
            assert_eq!(guess(name.as_bytes()), Guess::Either, "{name}");
        }
        for name in ["x", "new", "n6", "SDA", "sda 1", "net2", "data", "lock"] {
            assert_eq!(guess(name.as_bytes()), Guess::Nothing, "{name}");
        }
    }
}
