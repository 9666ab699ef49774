//! On-disk facts and what is wrong with them, in the words of a description that names them.

use std::ops::Range;
use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::act::quoted;
use mivask_core::fact::{Fact, Provenance};
use mivask_core::host_mounts::{HostMount, HostMounts};
use mivask_core::identity::{ImageFacts, Knowledge};
use mivask_core::labels::Labels;
use mivask_core::mount::MountFlags;
use mivask_core::personality::Personality;
use mivask_core::scene::{Image, Program, VolumeFacts};
use mivask_core::tree::Tree;
use mivask_disk::error::{At, DiskError};
use mivask_disk::gathered::{AccountFiles, Gathered, Holes};
use mivask_disk::mounts::MountLine;

use crate::accounts;
use crate::diagnostic::{Diagnostics, Severity};
use crate::labels;
use crate::text::SourceText;

/// The image that a source holds: its files, its accounts where their content could be read, and what its
/// configuration says. A source without a configuration, such as a folder, leaves the user unknown.
#[must_use]
pub fn image(source: &str, gathered: Gathered) -> Image {
    let mut tree = gathered.tree;
    Arc::make_mut(&mut tree).lower();
    let from = || Provenance::Source(Arc::from(source));
    let accounts =
        gathered.accounts.map_or(Knowledge::Unknown, |files| Knowledge::Known(account_lines(source, &files)));
    let mut user = Knowledge::Unknown;
    let mut volumes = Vec::new();
    let mut working_directory = None;
    let mut program = Knowledge::Unknown;
    if let Some(given) = gathered.image {
        user = Knowledge::Known(given.user.map(|user| Fact::new(user, from())));
        volumes = given.volumes.into_iter().map(|path| Fact::new(path.into_bytes(), from())).collect();
        let bytes = |text: Option<String>| text.map(|text| Fact::new(text.into_bytes(), from()));
        working_directory = bytes(given.working_directory);
        program = Knowledge::Known(Program {
            entrypoint: bytes(given.entrypoint),
            command: bytes(given.command),
            search: bytes(given.search),
        });
    }
    let identity = ImageFacts { user, accounts, covered: false };
    Image { identity, tree: Some(tree), volumes, working_directory, program, ..Image::default() }
}

fn account_lines(source: &str, files: &AccountFiles) -> Accounts {
    let name = |file: &str| format!("{source}: {file}");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Accounts {
        passwd: files.passwd.as_deref().map(|bytes| accounts::passwd(&name("etc/passwd"), &text(bytes))),
        group: files.group.as_deref().map(|bytes| accounts::group(&name("etc/group"), &text(bytes))),
        incomplete: None,
    }
}

/// A volume of which nothing is known but what is on it.
#[must_use]
pub fn volume(source: &str, tree: Arc<Tree>) -> VolumeFacts {
    VolumeFacts {
        tree: Some(tree),
        filesystem: None,
        personality: Personality::default(),
        flags: MountFlags::default(),
        read_only_filesystem: false,
        group_ownership: None,
        labels: Labels::default(),
        from: Provenance::Source(Arc::from(source)),
    }
}

/// The mounts of a host, as a table tells them. Options that decide nothing are skipped over.
#[must_use]
pub fn mounts(source: &str, lines: &[MountLine]) -> HostMounts {
    let file: Arc<str> = Arc::from(source);
    let one = |line: &MountLine| {
        HostMount {
            at: line.at.clone(),
            filesystem: Arc::from(line.filesystem.as_str()),
            flags: mount_flags(line),
            whole: line.root == b"/" && !line.options.iter().any(|option| option == "bind"),
            // Only mountinfo tells the superblock's options apart.
            read_only_filesystem: line.device.is_some()
                && line.super_options.iter().any(|option| option == "ro"),
            personality: Personality::of(&line.filesystem).map(|own| with_options(own, line)),
            labels: labels::of_options(line.options.iter().chain(&line.super_options)),
            from: Provenance::Line { file: file.clone(), line: line.line },
        }
    };
    HostMounts::new(mivask_disk::mounts::visible(lines.to_vec()).iter().map(one).collect())
}

/// The flags of a mount.
pub(crate) fn mount_flags(line: &MountLine) -> MountFlags {
    let words = line.options.iter().filter_map(|option| MountFlags::by_word(option));
    words.fold(MountFlags::NONE, MountFlags::with)
}

/// A file system with the options it was mounted with.
pub(crate) fn with_options(mut personality: Personality, line: &MountLine) -> Personality {
    for option in line.options.iter().chain(&line.super_options) {
        // What is not understood here was understood by the kernel that mounted it.
        let _ = personality.option(option);
    }
    personality
}

/// What to say of a listing of one directory of the host that is given for the whole host: the message, and what to write.
#[must_use]
pub fn part_of_host(source: &str, top: Option<&[u8]>) -> Option<(String, String)> {
    let top = quoted(top?);
    let message =
        format!("{source} lists {top}, and is taken for the whole host: nothing will be found at {top}");
    Some((message, format!("say where it is: `trees: {{ {top}: {source} }}`, or --disk host:{top}={source}")))
}

/// What a source could not tell; `None` where it told everything.
#[must_use]
pub fn holes(name: &str, holes: Holes) -> Option<String> {
    let parts = [
        (holes.vanished, "went away while they were looked at"),
        (holes.denied, "could not be looked at"),
        (holes.failed, "could not be read"),
    ];
    let given: Vec<String> = parts
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} entries {what}"))
        .collect();
    (!given.is_empty()).then(|| {
        format!("{name} is not whole: {}; answers about them depend on what they are", given.join(", "))
    })
}

/// Adds what is wrong with a source: at its own line where it has one, else where the description names it.
pub fn diagnostic(error: &DiskError, named: (&SourceText, &Range<usize>), diagnostics: &mut Diagnostics) {
    match &error.at {
        At::Line { line, column, text } => {
            let source = SourceText::starting_at(&error.source, text, *line);
            let at = text.char_indices().nth(column - 1).map_or(text.len(), |(at, _)| at);
            let span = at..text.len().max(at);
            diagnostics.add(Severity::Error, &source, &span, error.message.clone(), error.help.clone());
        }
        At::Whole | At::Byte(_) => {
            diagnostics.add(Severity::Error, named.0, named.1, error.to_string(), error.help.clone());
        }
    }
}
