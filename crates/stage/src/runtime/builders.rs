//! What builders of images do differently (docs/facts/runtimes.md section 9).

use super::Runtime;

/// A builder whose rules are known here.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Builder {
    /// BuildKit, which Docker uses unless told otherwise.
    BuildKit,
    /// The builder of Docker's daemon without it.
    Classic,
    /// Podman's.
    Buildah,
}

impl Builder {
    /// Every builder.
    pub const ALL: [Self; 3] = [Self::BuildKit, Self::Classic, Self::Buildah];

    /// The name in scene files and answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::BuildKit => "buildkit",
            Self::Classic => "classic",
            Self::Buildah => "buildah",
        }
    }

    /// The builder of that name.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|builder| builder.word() == word)
    }

    /// The one that goes with `runtime` where none is named.
    #[must_use]
    pub const fn usual(runtime: Runtime) -> Self {
        match runtime {
            Runtime::Podman | Runtime::CriO | Runtime::Crun => Self::Buildah,
            Runtime::Bare | Runtime::Containerd | Runtime::Containerd16 | Runtime::Docker | Runtime::Runc => {
                Self::BuildKit
            }
        }
    }

    /// Its rules.
    #[must_use]
    pub const fn rules(self) -> &'static BuildRules {
        match self {
            Self::BuildKit => &BUILDKIT,
            Self::Classic => &CLASSIC,
            Self::Buildah => &BUILDAH,
        }
    }
}

/// Rules of one builder.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct BuildRules {
    /// When `WORKDIR` makes what is missing, and for whom.
    pub working_directory: WorkingDirectory,
    /// Whether a `WORKDIR` of which nothing is left is an error; it changes nothing otherwise.
    pub refuses_empty_working_directory: bool,
    /// Whether `--chown=NAME` takes the group of that *name*, and fails without one; the account's group otherwise.
    pub owner_needs_group_of_its_name: bool,
    /// Whether `--chown=:GROUP` is taken, with root as the user; an error otherwise.
    pub group_alone: bool,
    /// Whether `--chown` with a name that the image has not means root; an error otherwise.
    pub missing_owner_is_root: bool,
    /// Whether directories made above a copied *directory* get the ids of `--chown`; root's otherwise.
    pub owns_parents_of_directories: bool,
    /// What a directory gets that is made in a set-group-ID directory for what is copied into it.
    pub in_set_group_id: InSetGroupId,
    /// Set-id and sticky bits that a copied directory keeps, octal.
    pub directory_bits: u16,
    /// The same of a copied file.
    pub file_bits: u16,
    /// What `--chmod` does.
    pub chmod: Chmod,
    /// Whether a copied file and a directory of one name take each other's place; an error otherwise.
    pub kinds_give_way: bool,
    /// Whether what a `RUN` does below a `VOLUME` is kept.
    pub keeps_volumes: bool,
}

/// When `WORKDIR` makes a missing directory.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum WorkingDirectory {
    /// At once, for root.
    ForRoot,
    /// At once, for the user of the moment.
    ForUser,
    /// When a command or a relative copy needs it, for the user of that moment.
    WhenNeeded,
}

/// What a directory gets that a copy makes in a set-group-ID directory.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum InSetGroupId {
    /// Nothing.
    Nothing,
    /// The bit alone.
    Bit,
    /// The bit, and the group unless `--chown` gives another.
    BitAndGroup,
}

/// What `--chmod` of a copy does.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Chmod {
    /// It is an error.
    Refused,
    /// It sets the nine permission bits of files and directories, and leaves the others.
    Permissions,
    /// It sets all bits of files and directories.
    Everything,
}

/// The measured one is part of Docker 20.10.
const BUILDKIT: BuildRules = BuildRules {
    working_directory: WorkingDirectory::ForUser,
    refuses_empty_working_directory: false,
    owner_needs_group_of_its_name: false,
    group_alone: true,
    missing_owner_is_root: true,
    owns_parents_of_directories: true,
    in_set_group_id: InSetGroupId::BitAndGroup,
    directory_bits: 0o7000,
    file_bits: 0o7000,
    chmod: Chmod::Permissions,
    kinds_give_way: false,
    keeps_volumes: true,
};

const CLASSIC: BuildRules = BuildRules {
    working_directory: WorkingDirectory::ForRoot,
    refuses_empty_working_directory: true,
    owner_needs_group_of_its_name: true,
    group_alone: false,
    missing_owner_is_root: false,
    owns_parents_of_directories: false,
    in_set_group_id: InSetGroupId::Bit,
    directory_bits: 0o7000,
    file_bits: 0o1000,
    chmod: Chmod::Refused,
    kinds_give_way: true,
    keeps_volumes: false,
};

const BUILDAH: BuildRules = BuildRules {
    working_directory: WorkingDirectory::WhenNeeded,
    refuses_empty_working_directory: false,
    owner_needs_group_of_its_name: false,
    group_alone: true,
    missing_owner_is_root: false,
    owns_parents_of_directories: true,
    in_set_group_id: InSetGroupId::Nothing,
    directory_bits: 0o1000,
    file_bits: 0o1000,
    chmod: Chmod::Everything,
    kinds_give_way: true,
    keeps_volumes: false,
};
