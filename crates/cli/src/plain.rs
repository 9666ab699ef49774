//! Files that nothing describes as INPUT: a folder of this machine, a survey, an archive or a listing, and whom to ask about.

use std::fs::File;
use std::io::Read;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::act::{ActErrorKind, Verb, parse_act, quoted, split};
use mivask_core::scene::Scene;
use mivask_core::tree::Tree;
use mivask_disk::live::Options;
use mivask_disk::process::{Reach, look};
use mivask_read::accounts;
use mivask_read::people::{before, beside};

use crate::end::{CommandError, Failure};
use crate::options::Input;
use crate::reach::Asked;
use crate::sources::gather;

/// What may be written in front of a folder, so that its files are meant and not the descriptions in it.
const PREFIX: &str = "files:";

/// Nobody was named whom a listing could be asked about.
#[derive(Debug, thiserror::Error)]
#[error("a listing says nothing of who looks: name somebody, such as --actor 5102:5200")]
struct Nobody;

impl CommandError for Nobody {}

/// The tree of an input that is no description: a folder as it is now, a survey, an archive, a listing.
pub(crate) fn tree(input: &Path) -> Result<Option<Arc<Tree>>, Failure> {
    match Ground::of(input) {
        None => Ok(None),
        Some(Ground::Folder(path) | Ground::Source(path)) => {
            Ok(Some(gather(&path, &Options::default())?.tree))
        }
    }
}

/// The files that an input is, where it is no description.
enum Ground {
    /// A folder of this machine, its path without links.
    Folder(PathBuf),
    /// A survey, an archive or a listing.
    Source(PathBuf),
}

impl Ground {
    fn of(input: &Path) -> Option<Self> {
        let text = input.as_os_str().as_bytes();
        let given = text.strip_prefix(PREFIX.as_bytes());
        let path = given.map_or_else(
            || input.to_path_buf(),
            |path| PathBuf::from(std::ffi::OsString::from_vec(path.to_vec())),
        );
        let describes = |path: &Path| {
            let end = path.extension().and_then(|end| end.to_str()).unwrap_or_default();
            ["yaml", "yml", "json", "container", "kube"].contains(&end)
        };
        if path.is_dir() {
            let entries = std::fs::read_dir(&path).ok()?;
            let described = entries.flatten().any(|entry| describes(&entry.path()));
            let layout = path.join("oci-layout").exists();
            return (given.is_some() || !described && !layout)
                .then(|| path.canonicalize().ok().map(Self::Folder))?;
        }
        // What begins like a description is read as one; what is neither is explained there.
        let is_source = path.is_file() && !describes(&path) && is_source(&path);
        (given.is_some() || is_source).then_some(Self::Source(path))
    }

    fn base(&self) -> &[u8] {
        match self {
            Self::Folder(path) => path.as_os_str().as_bytes(),
            Self::Source(_) => b"/",
        }
    }
}

/// Whether a file is one of the sources of on-disk facts, by its beginning.
fn is_source(path: &Path) -> bool {
    let Ok(mut file) = File::open(path) else { return false };
    let mut head = Vec::new();
    if file.by_ref().take(MOST_TEXT).read_to_end(&mut head).is_err() {
        return false;
    }
    // Archives and surveys are no text; of a text only the whole tells what it is.
    if head.contains(&0) || std::str::from_utf8(&head).is_err() {
        return true;
    }
    let name = path.display().to_string();
    let whole = u64::try_from(head.len()).is_ok_and(|read| read < MOST_TEXT);
    whole && mivask_disk::source::read(&name, &mut head.as_slice(), &Options::default()).is_ok()
}

/// Bytes of a listing at most that are looked at to tell whether it is one; a longer one takes the prefix.
const MOST_TEXT: u64 = 16 * 1024 * 1024;

/// The scene of an input that is no description; `None` where it is one.
pub(crate) fn scene(input: &Input, asked: &Asked) -> Result<Option<Scene>, Failure> {
    let Some(ground) = Ground::of(&input.input) else { return Ok(None) };
    // Whoever is named in an act is meant, too.
    let mut people = asked.people.clone();
    for actor in &asked.actors {
        if !people.contains(actor) {
            people.push(actor.clone());
        }
    }
    match ground {
        Ground::Folder(path) => {
            let mut reach = asked.reach.clone();
            reach.paths.push(path.as_os_str().as_bytes().to_vec());
            let reach = Reach { whole: true, ..reach };
            let process = look(std::process::id(), &reach).map_err(Failure::Disk)?;
            if people.is_empty() {
                people.push(format!("{}:{}", process.uid, process.gid));
            }
            Ok(Some(beside(process, mivask_kernel::settings(), of_this_machine(), &people)))
        }
        Ground::Source(path) => {
            if people.is_empty() {
                return Err(Nobody.into());
            }
            let tree = gather(&path, &Options::default())?.tree;
            Ok(Some(before(tree, &people)))
        }
    }
}

/// The account files of this machine.
fn of_this_machine() -> Accounts {
    let text =
        |path: &str| std::fs::read(path).ok().map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    Accounts {
        passwd: text("/etc/passwd").map(|text| accounts::passwd("/etc/passwd", &text)),
        group: text("/etc/group").map(|text| accounts::group("/etc/group", &text)),
        incomplete: None,
    }
}

/// The sentences with their actor, where they begin with a verb and only one is asked about, and with paths of the folder
/// that is asked about made absolute.
pub(crate) fn spoken(input: &Input, actors: &[String], sentences: &[String]) -> Vec<String> {
    let ground = Ground::of(&input.input);
    let own = match (actors, &ground) {
        ([one], _) => Some(quoted(one.as_bytes())),
        ([], Some(Ground::Folder(_))) => {
            let (uid, gid) = (rustix::process::geteuid(), rustix::process::getegid());
            Some(format!("{}:{}", uid.as_raw(), gid.as_raw()))
        }
        _ => None,
    };
    let said = |text: &String| {
        let words = split(text).unwrap_or_default();
        let verb = words.first().is_some_and(|word| Verb::by_word(&word.as_text()).is_some());
        let text = match &own {
            Some(own) if verb => format!("{own} {text}"),
            Some(_) | None => text.clone(),
        };
        ground.as_ref().map_or_else(|| text.clone(), |ground| absolute(text.clone(), ground.base()))
    };
    sentences.iter().map(said).collect()
}

/// A sentence whose relative paths begin at `base`.
fn absolute(mut text: String, base: &[u8]) -> String {
    // An act has two paths at most.
    for _ in 0..2 {
        let Err(error) = parse_act(&text) else { break };
        if !matches!(error.kind, ActErrorKind::Relative(_)) {
            break;
        }
        let Some(word) = text.get(error.span.clone()) else { break };
        let Ok(words) = split(word) else { break };
        let Some(relative) = words.first() else { break };
        let path = quoted(&joined(base, &relative.text));
        text.replace_range(error.span, &path);
    }
    text
}

fn joined(base: &[u8], relative: &[u8]) -> Vec<u8> {
    let relative = relative.strip_prefix(b"./").unwrap_or(relative);
    if matches!(relative, b"" | b".") {
        return base.to_vec();
    }
    let base = if base == b"/" { b"".as_slice() } else { base };
    [base, b"/", relative].concat()
}

/// Path arguments, those of a folder that is asked about made absolute; without any, the folder and what is in it.
pub(crate) fn paths(input: &Input, paths: &[PathBuf]) -> Vec<PathBuf> {
    let Some(ground) = Ground::of(&input.input) else { return paths.to_vec() };
    let whole = |path: &PathBuf| {
        if path.is_absolute() {
            return path.clone();
        }
        PathBuf::from(std::ffi::OsString::from_vec(joined(ground.base(), path.as_os_str().as_bytes())))
    };
    paths.iter().map(whole).collect()
}

/// The folder and what is in it, where an input is a folder of this machine.
pub(crate) fn first_paths(input: &Input) -> Vec<PathBuf> {
    let Some(Ground::Folder(path)) = Ground::of(&input.input) else { return Vec::new() };
    let entries = std::fs::read_dir(&path).into_iter().flatten().flatten();
    let mut all: Vec<PathBuf> = entries.map(|entry| entry.path()).take(MOST_SHOWN).collect();
    all.sort();
    all.insert(0, path);
    all
}

/// Entries of a folder that are shown where no path is named.
const MOST_SHOWN: usize = 40;
