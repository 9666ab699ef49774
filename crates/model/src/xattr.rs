//! POSIX ACLs and file capabilities as extended attributes (include/uapi/linux/posix_acl_xattr.h, capability.h).

use crate::acl::Acl;
use crate::caps::{CapabilitySet, FileCapabilities};
use crate::ids::{DiskGid, DiskUid};
use crate::mode::{Access, Mode};

/// The attribute of the access ACL.
pub const ACCESS: &str = "system.posix_acl_access";
/// The attribute of the default ACL.
pub const DEFAULT: &str = "system.posix_acl_default";

/// The attribute of the label.
pub const LABEL: &str = "security.selinux";

const VERSION: u32 = 2;
const NO_ID: u32 = u32::MAX;

/// The label that the attribute's value is: text, mostly with a NUL behind it; `None` for what is no label.
#[must_use]
pub fn decode_label(value: &[u8]) -> Option<&str> {
    let text = std::str::from_utf8(value.strip_suffix(b"\0").unwrap_or(value)).ok()?;
    let plain = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_graphic());
    plain.then_some(text)
}

/// The value of the attribute.
#[must_use]
pub fn encode(acl: &Acl) -> Vec<u8> {
    let mut bytes = VERSION.to_le_bytes().to_vec();
    let mut entry = |tag: u16, access: Access, id: u32| {
        bytes.extend(tag.to_le_bytes());
        bytes.extend(u16::from(access.bits()).to_le_bytes());
        bytes.extend(id.to_le_bytes());
    };
    entry(0x01, acl.owner, NO_ID);
    acl.users.iter().for_each(|(uid, access)| entry(0x02, *access, uid.raw()));
    entry(0x04, acl.group, NO_ID);
    acl.groups.iter().for_each(|(gid, access)| entry(0x08, *access, gid.raw()));
    acl.mask.iter().for_each(|mask| entry(0x10, *mask, NO_ID));
    entry(0x20, acl.other, NO_ID);
    bytes
}

/// The attribute of file capabilities.
pub const CAPABILITIES: &str = "security.capability";

/// The value of that attribute (`struct vfs_ns_cap_data`, little endian): version 2, or 3 where the capabilities
/// belong to another root user than the host's.
#[must_use]
pub fn encode_capabilities(capabilities: Option<&FileCapabilities>) -> Vec<u8> {
    let empty = FileCapabilities {
        permitted: CapabilitySet::EMPTY,
        inheritable: CapabilitySet::EMPTY,
        effective: false,
        root: 0,
    };
    let caps = capabilities.unwrap_or(&empty);
    let version: u32 = if caps.root == 0 { 0x0200_0000 } else { 0x0300_0000 };
    let mut bytes = (version | u32::from(caps.effective)).to_le_bytes().to_vec();
    let permitted = caps.permitted.bits().to_le_bytes();
    let inheritable = caps.inheritable.bits().to_le_bytes();
    for half in [0..4, 4..8] {
        bytes.extend(&permitted[half.clone()]);
        bytes.extend(&inheritable[half]);
    }
    if caps.root != 0 {
        bytes.extend(caps.root.to_le_bytes());
    }
    bytes
}

/// The ACL in an attribute's value; `None` if it is malformed.
#[must_use]
pub fn decode(bytes: &[u8]) -> Option<Acl> {
    let mut acl = Acl::minimal(Mode::default());
    let (version, entries) = bytes.split_first_chunk::<4>()?;
    if u32::from_le_bytes(*version) != VERSION {
        return None;
    }
    for entry in entries.chunks_exact(8) {
        let tag = u16::from_le_bytes([entry[0], entry[1]]);
        let access = Access::new(u16::from_le_bytes([entry[2], entry[3]]));
        let id = u32::from_le_bytes([entry[4], entry[5], entry[6], entry[7]]);
        match tag {
            0x01 => acl.owner = access,
            0x02 => acl.users.push((DiskUid::new(id), access)),
            0x04 => acl.group = access,
            0x08 => acl.groups.push((DiskGid::new(id), access)),
            0x10 => acl.mask = Some(access),
            0x20 => acl.other = access,
            _ => return None,
        }
    }
    Some(acl)
}

/// The file capabilities in an attribute's value; `None` where they are none (versions 2 and 3).
#[must_use]
pub fn decode_capabilities(bytes: &[u8]) -> Option<FileCapabilities> {
    let word = |index: usize| {
        let four = bytes.get(index * 4..index * 4 + 4)?;
        Some(u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
    };
    let (magic, root) = match word(0)? {
        magic if magic >> 24 == 2 && bytes.len() == 20 => (magic, 0),
        magic if magic >> 24 == 3 && bytes.len() == 24 => (magic, word(5)?),
        _ => return None,
    };
    let set = |low: u32, high: u32| CapabilitySet::from_bits(u64::from(high) << 32 | u64::from(low));
    let permitted = set(word(1)?, word(3)?);
    let inheritable = set(word(2)?, word(4)?);
    Some(FileCapabilities { permitted, inheritable, effective: magic & 1 == 1, root })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_acl_survives_the_attribute() {
        let acl = Acl::parse("user:7102:rw-,group:7300:r--,mask::r--", Mode::new(0o640)).unwrap();
        assert_eq!(decode(&encode(&acl)), Some(acl));
        assert_eq!(decode(b"\x01\0\0\0"), None);
    }

    #[test]
    fn file_capabilities_survive_the_attribute() {
        let mut caps: FileCapabilities = "CHOWN,CHECKPOINT_RESTORE=ep".parse().unwrap();
        for root in [0, 100_000] {
            caps.root = root;
            assert_eq!(decode_capabilities(&encode_capabilities(Some(&caps))), Some(caps));
        }
        assert_eq!(decode_capabilities(&[9; 20]), None);
    }
}
