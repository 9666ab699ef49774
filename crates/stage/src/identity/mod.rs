//! Who an actor is: numbers, capabilities, umask, and where each came from.

mod added;
mod capability_sets;
mod groups;
mod kubernetes;
mod no_id;
mod notes;
mod people;
mod plain;
mod privileges;
mod process;
mod untold;
mod workload;

use std::sync::Arc;

pub use capability_sets::{CRI_DEFAULT, DeclaredCapabilities, IgnoredCapability, set_in_words};
pub use kubernetes::kubernetes_identity;
pub use mivask_model::credentials::{Credentials, Identity};
pub use mivask_model::refusal::Refusal;
pub use plain::plain_identity;
pub use process::process_identity;
pub use workload::{
    ContainerSecurity, GroupName, ImageFacts, Knowledge, NamespaceTerms, PlainIdentity, PodSecurity,
    ProcessIdentity,
};

use mivask_model::fact::{Provenance, Unknown};

/// A field of an identity.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum IdentityField {
    /// `USER` of the image.
    ImageUser,
    /// The program it starts, where that decides who it is.
    Program,
    /// User id.
    Uid,
    /// Real user id, where the program is set-id.
    RealUid,
    /// Account name.
    Name,
    /// Primary group id.
    Gid,
    /// Real group id, where the program is set-id.
    RealGid,
    /// One supplementary group id.
    Group,
    /// Bounding set.
    Bounding,
    /// A capability that was declared.
    Capability,
    /// Effective set.
    Effective,
    /// Umask.
    Umask,
    /// no_new_privs.
    NoNewPrivileges,
    /// Id maps of its user namespace.
    UserNamespace,
    /// SELinux label.
    Label,
}

impl IdentityField {
    /// The word used in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::ImageUser => "image user",
            Self::Program => "program",
            Self::Uid => "uid",
            Self::RealUid => "real uid",
            Self::RealGid => "real gid",
            Self::Name => "name",
            Self::Gid => "gid",
            Self::Group => "group",
            Self::Bounding => "bounding",
            Self::Capability => "capability",
            Self::Effective => "effective",
            Self::Umask => "umask",
            Self::NoNewPrivileges => "no-new-privileges",
            Self::UserNamespace => "user-namespace",
            Self::Label => "label",
        }
    }
}

/// One field of an identity with its value in words and its provenance.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct IdentityFact {
    /// Which field.
    pub field: IdentityField,
    /// The value as text.
    pub value: String,
    /// Where it came from.
    pub from: Provenance,
}

/// The identities an actor may have; more than one where a fact is missing.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Resolved {
    /// Each possibility: what must hold for it (empty where it is the only one), and the identity.
    pub possible: Vec<(Arc<str>, Identity)>,
    /// The missing fact that tells them apart.
    pub question: Option<Unknown>,
    /// The account name of the user id, where one is known.
    pub name: Option<String>,
    /// The facts behind it, field by field.
    pub facts: Vec<IdentityFact>,
    /// Why it never runs.
    pub refusal: Option<Refusal>,
    /// What was taken for granted.
    pub assumptions: Vec<Arc<str>>,
}
