//! POSIX ACLs and file capabilities as extended attributes (include/uapi/linux/posix_acl_xattr.h, capability.h).

use mivask_core::acl::Acl;
use mivask_core::caps::{CapabilitySet, FileCapabilities};
use mivask_core::ids::{DiskGid, DiskUid};
use mivask_core::mode::Access;

/// The attribute of the access ACL.
pub(crate) const ACCESS: &str = "system.posix_acl_access";
/// The attribute of the default ACL.
pub(crate) const DEFAULT: &str = "system.posix_acl_default";

const VERSION: u32 = 2;
const NO_ID: u32 = u32::MAX;

/// The value of the attribute.
pub(crate) fn encode(acl: &Acl) -> Vec<u8> {
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
pub(crate) const CAPABILITIES: &str = "security.capability";

/// The value of that attribute (`struct vfs_ns_cap_data`, little endian): version 2, or 3 where the capabilities
/// belong to another root user than the host's.
pub(crate) fn encode_capabilities(capabilities: Option<&FileCapabilities>) -> Vec<u8> {
    let empty = FileCapabilities {
        permitted: CapabilitySet::EMPTY,
        inheritable: CapabilitySet::EMPTY,
        effective: false,
        root: 0,
    };
    let caps = capabilities.unwrap_or(&empty);
    let version: u32 = if caps.root == 0 { 0x0200_0000 } else { 0x0300_0000 };
    let mut bytes = (version | u32::from(caps.effective)).to_le_bytes().to_vec();
    let (permitted, inheritable) =
        (caps.permitted.bits().to_le_bytes(), caps.inheritable.bits().to_le_bytes());
    for half in [0..4, 4..8] {
        bytes.extend(&permitted[half.clone()]);
        bytes.extend(&inheritable[half]);
    }
    if caps.root != 0 {
        bytes.extend(caps.root.to_le_bytes());
    }
    bytes
}

/// The ACL in an attribute's value; `None` where it is none.
pub(crate) fn decode(bytes: &[u8]) -> Option<Acl> {
    let mut acl = Acl::minimal(mivask_core::mode::Mode::default());
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

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_core::mode::Mode;

    #[test]
    fn an_acl_survives_the_attribute() {
        let acl = Acl::parse("user:7102:rw-,group:7300:r--,mask::r--", Mode::new(0o640)).unwrap();
        assert_eq!(decode(&encode(&acl)), Some(acl));
        assert_eq!(decode(b"\x01\0\0\0"), None);
    }
}
