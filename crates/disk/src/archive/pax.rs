//! Extended headers of the pax format (POSIX.1-2001 pax(1), "pax Extended Header").
//!
//! Records are taken apart by their lengths, since values may hold any bytes, line ends too.

use mivask_model::acl::Acl;
use mivask_model::mode::Mode;
use mivask_model::tree::Extended;
use mivask_model::xattr;

/// What extended headers say about one member; what they leave out is in its own header.
#[derive(Clone, Default, Debug)]
pub(crate) struct Pax {
    pub path: Option<Vec<u8>>,
    pub link: Option<Vec<u8>>,
    pub uid: Option<u64>,
    pub gid: Option<u64>,
    pub size: Option<u64>,
    pub extended: Extended,
    /// ACLs as text, applied once the mode is known: access, default.
    pub acl_texts: [Option<String>; 2],
    /// What the archive mentions at all.
    pub tells: Tells,
    /// The real size of a sparse file, and its real name.
    pub sparse: bool,
}

/// Which extended attributes an archive mentions: one that has none may have been made without them.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(crate) struct Tells {
    pub acls: bool,
    pub capabilities: bool,
}

impl Tells {
    /// Adds what one member mentions.
    pub(crate) fn add(&mut self, other: Self) {
        self.acls |= other.acls;
        self.capabilities |= other.capabilities;
    }
}

/// A record is not as the format asks.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Malformed;

impl Pax {
    /// Adds the records of one extended header.
    pub(crate) fn add(&mut self, mut records: &[u8]) -> Result<(), Malformed> {
        while !records.is_empty() && records.iter().any(|byte| *byte != 0) {
            let blank = records.iter().position(|byte| *byte == b' ').ok_or(Malformed)?;
            let length = number(&records[..blank]).and_then(|length| usize::try_from(length).ok());
            let length = length.filter(|length| *length > blank + 1 && *length <= records.len());
            let (record, rest) = records.split_at(length.ok_or(Malformed)?);
            let record = record[blank + 1..].strip_suffix(b"\n").ok_or(Malformed)?;
            let equals = record.iter().position(|byte| *byte == b'=').ok_or(Malformed)?;
            self.set(&record[..equals], &record[equals + 1..])?;
            records = rest;
        }
        Ok(())
    }

    fn set(&mut self, key: &[u8], value: &[u8]) -> Result<(), Malformed> {
        match key {
            b"path" => self.path = Some(value.to_vec()),
            b"linkpath" => self.link = Some(value.to_vec()),
            b"uid" => self.uid = Some(number(value).ok_or(Malformed)?),
            b"gid" => self.gid = Some(number(value).ok_or(Malformed)?),
            b"size" => self.size = Some(number(value).ok_or(Malformed)?),
            b"GNU.sparse.name" => (self.path, self.sparse) = (Some(value.to_vec()), true),
            b"GNU.sparse.major" | b"GNU.sparse.map" => self.sparse = true,
            b"SCHILY.acl.access" => self.acl_texts[0] = text(value),
            b"SCHILY.acl.default" => self.acl_texts[1] = text(value),
            _ => {
                let attribute = key.strip_prefix(b"SCHILY.xattr.").or(key.strip_prefix(b"LIBARCHIVE.xattr."));
                if let Some(attribute) = attribute {
                    self.attribute(attribute, value);
                }
            }
        }
        self.tells.acls |=
            key.starts_with(b"SCHILY.acl.") || key.starts_with(b"SCHILY.xattr.system.posix_acl");
        self.tells.capabilities |= self.extended.capabilities.is_some();
        Ok(())
    }

    fn attribute(&mut self, name: &[u8], value: &[u8]) {
        if name == xattr::ACCESS.as_bytes() {
            self.extended.access = xattr::decode(value);
        } else if name == xattr::DEFAULT.as_bytes() {
            self.extended.default = xattr::decode(value);
        } else if name == xattr::CAPABILITIES.as_bytes() {
            self.extended.capabilities = xattr::decode_capabilities(value);
        }
    }

    /// The ACLs and capabilities of a member with `mode`; whether they were all understood.
    pub(crate) fn extended(&self, mode: Mode) -> (Extended, bool) {
        let mut extended = self.extended.clone();
        let mut understood = true;
        let [access, default] =
            self.acl_texts.each_ref().map(|text| text.as_deref().map(|text| acl(text, mode)));
        for (given, place) in [(access, &mut extended.access), (default, &mut extended.default)] {
            match given {
                None => {}
                Some(Some(acl)) => *place = Some(acl),
                Some(None) => understood = false,
            }
        }
        (extended, understood)
    }
}

/// An ACL of text whose names are numbers; archives add the number of a name as a fourth field.
fn acl(text: &str, mode: Mode) -> Option<Acl> {
    let entry = |entry: &str| {
        let fields: Vec<&str> = entry.trim().split(':').collect();
        match fields.as_slice() {
            [tag, _, access, number] => format!("{tag}:{number}:{access}"),
            _ => entry.trim().to_owned(),
        }
    };
    let entries: Vec<String> =
        text.split([',', '\n']).filter(|entry| !entry.trim().is_empty()).map(entry).collect();
    Acl::parse(&entries.join(","), mode).ok()
}

fn text(value: &[u8]) -> Option<String> {
    Some(String::from_utf8_lossy(value).into_owned())
}

fn number(digits: &[u8]) -> Option<u64> {
    if digits.is_empty() || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    std::str::from_utf8(digits).ok()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_may_hold_any_bytes() {
        let mut pax = Pax::default();
        pax.add(b"15 path=a\nb\xff=c\n12 uid=7101\n").unwrap();
        assert_eq!((pax.path.as_deref(), pax.uid), (Some(&b"a\nb\xff=c"[..]), Some(7101)));
        for broken in
            [&b"99 path=a\n"[..], b"9 path=ab\n", b"x path=a\n", b"8 patha\n", b"12 uid=-101\n", b"3 \n"]
        {
            assert_eq!(Pax::default().add(broken), Err(Malformed), "{broken:?}");
        }
    }

    #[test]
    fn acl_texts_take_the_numbers_behind_names() {
        let mut pax = Pax::default();
        pax.add(b"60 SCHILY.acl.access=user::rw-,user:gauge:r--:7101,mask::r--\n").unwrap_or_default();
        let text = "user::rw-,user:gauge:r--:7101,group::---,mask::r--,other::---";
        assert_eq!(acl(text, Mode::new(0o640)).unwrap().users[0].0.raw(), 7101);
        assert_eq!(acl("user:gauge:r--", Mode::new(0o640)), None);
    }
}
