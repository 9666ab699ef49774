//! Single values of a survey, and what can be wrong with them.

use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Extended, TreeError};
use mivask_model::xattr;

use super::columns::{Column, Reader, Short};
use super::frame::FrameError;

pub(super) enum Trouble {
    Frame(FrameError),
    Content(String),
}

impl From<FrameError> for Trouble {
    fn from(error: FrameError) -> Self {
        Self::Frame(error)
    }
}

impl From<Short> for Trouble {
    fn from(_: Short) -> Self {
        Self::Content("a column ends too early".to_owned())
    }
}

impl From<TreeError> for Trouble {
    fn from(error: TreeError) -> Self {
        Self::Content(error.to_string())
    }
}

pub(super) fn wrong<T>(what: &str) -> Result<T, Trouble> {
    Err(Trouble::Content(what.to_owned()))
}

pub(super) fn extended(columns: &mut Reader<'_>, labelled: bool) -> Result<Extended, Trouble> {
    let mut value = || columns.sized(Column::NewExtended);
    let access = value()?;
    let default = value()?;
    let capabilities = value()?;
    let label = if labelled { value()? } else { &[] };
    let acl = |bytes: &[u8]| match bytes {
        [] => Ok(None),
        bytes => match xattr::decode(bytes) {
            Some(acl) => Ok(Some(acl)),
            None => wrong("an ACL that is not one"),
        },
    };
    let capabilities = match capabilities {
        [] => None,
        bytes => match xattr::decode_capabilities(bytes) {
            Some(capabilities) => Some(capabilities),
            None => return wrong("file capabilities that are none"),
        },
    };
    let label = match label {
        [] => None,
        bytes => match xattr::decode_label(bytes) {
            Some(label) => Some(Arc::from(label)),
            None => return wrong("a label that is none"),
        },
    };
    Ok(Extended { access: acl(access)?, default: acl(default)?, capabilities, label, labelled_since: false })
}

pub(super) fn tagged(tag: u8, columns: &mut Reader<'_>) -> Result<Certainty, Trouble> {
    let mut text = || -> Result<String, Trouble> {
        Ok(String::from_utf8_lossy(columns.sized(Column::Doubts)?).into_owned())
    };
    match tag {
        0 => Ok(Certainty::Known),
        1 => Ok(Certainty::Assumed(Arc::from(text()?))),
        2 => Ok(Certainty::Unknown(Unknown::new(&text()?, &text()?))),
        _ => wrong("a doubt of an unknown kind"),
    }
}

pub(super) fn kind(byte: u8) -> Option<FileKind> {
    FileKind::ALL.into_iter().find(|kind| super::recorder::kind_byte(*kind) == byte)
}
