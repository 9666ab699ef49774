//! The order of remedies: one table of what speaks against a change, each on a rung with its reason.
//!
//! There is nothing to add up. A remedy is as bad as the worst that is said of it; of two that are as bad as each other, the
//! next worst decides, and so on; of two that are equal throughout, the one that opens less, then the one that takes less away,
//! then the one with fewer changes, and then the one that is made in a description rather than on a disk.

use std::cmp::Ordering;

/// How much speaks against a change, the least first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Rung {
    /// A mistake is mended, or no more is done than has to be.
    Trifle,
    /// One thing, easily seen and taken back, that gives what its name says.
    Slight,
    /// The same with somebody else concerned.
    Light,
    /// Whoever works on it next has to know of it.
    Fair,
    /// Who the process is, or several things that nobody asked for.
    Marked,
    /// A protection is given up, or somebody loses what they use.
    Heavy,
    /// It does not last, or only until a file is replaced.
    Severe,
    /// What is expected does not hold any more.
    Breaking,
    /// The process may do what is kept from users.
    Privileged,
    /// Nothing is kept from the process.
    Last,
}

impl Rung {
    /// The word in the table of the documentation.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Trifle => "trifle",
            Self::Slight => "slight",
            Self::Light => "light",
            Self::Fair => "fair",
            Self::Marked => "marked",
            Self::Heavy => "heavy",
            Self::Severe => "severe",
            Self::Breaking => "breaking",
            Self::Privileged => "privileged",
            Self::Last => "last",
        }
    }
}

macro_rules! marks {
    ($($(#[$doc:meta])* $variant:ident = $name:literal, $rung:ident, $why:literal;)*) => {
        /// What speaks against a remedy.
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        #[non_exhaustive]
        pub enum Mark { $(#[doc = $why] $variant,)* }

        impl Mark {
            /// All of them, as the table of the documentation has them.
            pub const ALL: &[Self] = &[$(Self::$variant),*];

            /// The name in JSON and in the documentation.
            #[must_use]
            pub const fn name(self) -> &'static str {
                match self { $(Self::$variant => $name,)* }
            }

            /// How much it speaks against a remedy.
            #[must_use]
            pub const fn rung(self) -> Rung {
                match self { $(Self::$variant => Rung::$rung,)* }
            }

            /// Why it is on that rung.
            #[must_use]
            pub const fn why(self) -> &'static str {
                match self { $(Self::$variant => $why,)* }
            }
        }
    };
}

marks! {
    // What kind of change it is, and where it is made.
    ForgottenX = "forgotten-x", Trifle, "A directory that is listed and cannot be entered has lost its x by mistake";
    FurtherEntry = "further-entry", Trifle, "Entries for one user along one path are one decision";
    Joins = "joins", Slight, "A membership in the description, of a group that has all it takes already";
    Umask = "umask", Slight, "A setting of the one process that makes the files";
    Scratch = "scratch", Slight, "A volume of its own touches nothing that is there";
    OtherIds = "other-ids", Slight, "A word in the description; what it made before keeps the owner that it has on the host";
    MountOption = "mount-option", Slight, "A word in the description; owners and modes still decide";
    GroupStep = "filesystem-group", Slight, "A field of the description made for this; what it opens besides is counted";
    Bits = "bits", Slight, "A chmod of the owner's or the group's bits gives what its name says";
    Directory = "directory", Slight, "A directory is made that was missing";
    Mask = "acl-mask", Slight, "The entry is there already, and its mask alone is in the way";
    Build = "build", Slight, "An image has to be built, and what runs has to be made anew";
    StartersRoot = "starters-root", Light, "Root in there is who starts the engine, and no more than that on the host";
    Conditional = "conditional", Light, "It helps where something is so that nobody told";
    SharedLevel = "shared-level", Light, "What has that level can use each other's files, as far as owners and modes let it";
    OfEveryPod = "of-every-pod", Light, "Every pod of the input has it afterwards";
    NotThereYet = "not-there-yet", Light, "The volume is made with the container, so nobody can change it before";
    Account = "account", Light, "All that runs as that account has it";
    Group = "group", Fair, "All members of the new group get it, and those of the old one lose it";
    Owner = "owner", Fair, "The owner may do all, and change the mode";
    OwnerOfDirectory = "owner-of-directory", Fair, "The owner of a directory may delete in it what others made";
    Entry = "acl-entry", Fair, "Narrow, and few look for an ACL";
    OwnerToRead = "owner-to-read", Fair, "Whoever only reads or enters needs no right to change the mode";
    TakenOwner = "taken-from-owner", Fair, "A user other than root had it";
    TakenGroup = "taken-from-group", Fair, "A group other than root's had it";
    BitsOfRootsGroup = "bits-of-roots-group", Fair, "Processes have group 0 where nobody named a group, so most can use it";
    AnotherUser = "another-user", Fair, "All that the process made so far stays with its old user";
    Relabels = "relabels", Fair, "All that is in it is labelled anew, on the host";
    AnotherUserThanBuilt =
        "another-user-than-built", Marked, "The file is the image's, and its build can give it away";
    OneUserForTwo =
        "one-user-for-two", Marked, "Two programs that were kept apart can do what either could";
    AnotherGroup = "another-group", Marked, "Its files get another group as well";
    WritableRoot = "writable-root", Heavy, "The image's own programs can be written to";
    TakesOver = "takes-over", Heavy, "At every start all that is in it is given to the process, on the host";
    OnlyPart = "hides-the-rest", Heavy, "The program finds nothing else of the volume any more";
    Boolean = "policy-boolean", Heavy, "Every container on the host may do it then";
    RootsGroup = "roots-group", Heavy, "The group of root opens what nobody thought of";
    EveryLaterFile = "every-later-file", Heavy, "Every file that the process makes from then on is open to everybody";
    OnlyFile = "one-file-alone", Severe, "What takes the name of the file later is not seen there";
    Capability = "capability", Privileged, "It holds for every file that the process reaches";
    Root = "root", Privileged, "Root owns what others protect, and comes with capabilities";
    Override = "overrides-modes", Last, "No mode and no ACL protects anything from the process";
    // What it opens besides, what it takes, and whether it lasts.
    OpensFew = "opens-1-to-2", Slight, "One or two other things, which are named";
    OpensSome = "opens-3-to-9", Light, "A handful, which can still be looked through";
    OpensMany = "opens-10-to-50", Fair, "A good part of a volume";
    OpensAll = "opens-over-50", Heavy, "Whole trees";
    OtherVolumes = "other-volumes", Marked, "A filesystem group opens every volume of the pod that takes one";
    OpensSecret = "opens-a-secret", Heavy, "A file that its owner alone could use, such as a key";
    ClosesFew = "closes-1-to-2", Light, "One or two things that somebody used";
    ClosesSome = "closes-3-to-9", Fair, "Several";
    ClosesMany = "closes-10-and-more", Marked, "Much";
    Inodes = "inodes-over-100", Slight, "More changes than anybody takes back by hand";
    MoreInodes = "inodes-over-10000", Light, "It takes time, at every start where a filesystem group does it";
    Undone = "undone", Severe, "The next start takes it back";
    Breaks = "breaks-an-expectation", Breaking, "The scene expects what is refused then";
}

/// What speaks against one remedy, the worst first.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Rank {
    marks: Vec<Mark>,
    changes: usize,
    on_disk: bool,
}

impl Rank {
    /// Of `changes` changes, any of which is `on_disk` or in an image.
    pub(super) fn new(mut marks: Vec<Mark>, changes: usize, on_disk: bool) -> Self {
        marks.sort_by_key(|mark| (std::cmp::Reverse(mark.rung()), *mark));
        Self { marks, changes, on_disk }
    }

    /// The marks, the worst first.
    #[must_use]
    pub fn marks(&self) -> &[Mark] {
        &self.marks
    }

    /// The worst that is said of it.
    #[must_use]
    pub fn worst(&self) -> Rung {
        self.marks.first().map_or(Rung::Trifle, |mark| mark.rung())
    }

    /// The rung of whichever of `counts` it has.
    fn rung_of(&self, counts: &[Mark]) -> Option<Rung> {
        self.marks.iter().find(|mark| counts.contains(mark)).map(|mark| mark.rung())
    }

    /// Least first: the rungs, how much it opens, how much it takes away, how many changes it is, and whether any is on a disk.
    fn key(&self) -> (Vec<Rung>, Option<Rung>, Option<Rung>, usize, bool) {
        let rungs = self.marks.iter().map(|mark| mark.rung()).collect();
        let opens = self.rung_of(&[Mark::OpensFew, Mark::OpensSome, Mark::OpensMany, Mark::OpensAll]);
        let closes = self.rung_of(&[Mark::ClosesFew, Mark::ClosesSome, Mark::ClosesMany]);
        (rungs, opens, closes, self.changes, self.on_disk)
    }
}

impl Ord for Rank {
    fn cmp(&self, other: &Self) -> Ordering {
        self.key().cmp(&other.key()).then_with(|| self.marks.cmp(&other.marks))
    }
}

impl PartialOrd for Rank {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// The mark for what is opened besides, `paths` pairs of actor and path, `secrets` of them files of their owner alone.
pub(super) fn of_opened(paths: usize, secrets: usize) -> Vec<Mark> {
    let count = match paths {
        0 => None,
        1..=2 => Some(Mark::OpensFew),
        3..=9 => Some(Mark::OpensSome),
        10..=50 => Some(Mark::OpensMany),
        51.. => Some(Mark::OpensAll),
    };
    count.into_iter().chain((secrets > 0).then_some(Mark::OpensSecret)).collect()
}

/// The mark for `paths` pairs of actor and path that are refused afterwards.
pub(super) const fn of_closed(paths: usize) -> Option<Mark> {
    match paths {
        0 => None,
        1..=2 => Some(Mark::ClosesFew),
        3..=9 => Some(Mark::ClosesSome),
        10.. => Some(Mark::ClosesMany),
    }
}

/// The mark for `count` inodes that have another owner, group, mode or ACL.
pub(super) const fn of_inodes(count: usize) -> Option<Mark> {
    match count {
        0..=100 => None,
        101..=10_000 => Some(Mark::Inodes),
        10_001.. => Some(Mark::MoreInodes),
    }
}
