//! `--rootless` and `--host-accounts`: who starts the engine, and the account files of the host.

use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::fact::{Fact, Provenance};
use mivask_core::namespace::{UnknownStarter, subordinate};
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Scene, Workload};
use mivask_read::accounts;

use crate::end::{CommandError, Failure};
use crate::options::Facts;

/// The word for this machine's own files.
pub(crate) const LIVE: &str = "live";

/// Bytes of an account file at most.
const MOST: u64 = 16 << 20;

/// What is wrong with them.
#[derive(Debug, thiserror::Error)]
enum StarterError {
    /// Nobody can tell who starts the engine.
    #[error("{from}: {why}; {help}")]
    Unknown {
        /// Where that is said.
        from: Provenance,
        /// Why.
        why: UnknownStarter,
        /// What to do.
        help: &'static str,
    },
    /// A file that cannot be read.
    #[error("{path}: {why}")]
    File {
        /// Which one.
        path: String,
        /// Why.
        why: String,
    },
}

impl CommandError for StarterError {}

/// Adds both to `scene`; a starter that nobody knows is an error.
pub(crate) fn add(scene: &mut Scene, facts: &Facts) -> Result<(), Failure> {
    if let Some(place) = &facts.host_accounts {
        let folder = if place == LIVE { PathBuf::from("/etc") } else { PathBuf::from(place) };
        take(scene, &folder, place == LIVE)?;
    }
    if let Some(user) = &facts.rootless {
        let from = Provenance::Source(Arc::from(format!("--rootless {user}")));
        scene.host.started_by = Some(Fact::new(user.clone(), from));
    }
    if let Some(user) = &facts.remapped_to {
        let from = Provenance::Source(Arc::from(format!("--remapped-to {user}")));
        // In place of what a scene says of it.
        scene.host.user_namespace = None;
        scene.host.remapped_to = Some(Fact::new(user.clone(), from));
    }
    let (why, word) = match (scene.host.starter(), scene.host.containers_namespace()) {
        (Err(why), _) => (why, &scene.host.started_by),
        (_, Err(why)) => (why, &scene.host.remapped_to),
        (Ok(_), Ok(_)) => return Ok(()),
    };
    let from = word.as_ref().map(|word| word.from.clone());
    let help = match &why {
        UnknownStarter::NoAccount(_) | UnknownStarter::NoAccounts(_) => {
            "give its user id, or --host-accounts: `live` for this machine, or a folder with copies of passwd, group, subuid and subgid"
        }
        UnknownStarter::Untold(_) => {
            "give them with --host-accounts, `live` for this machine's or a folder, or as `subuid` and `subgid` of the host in a scene file"
        }
        UnknownStarter::Empty(_)
        | UnknownStarter::TooMany(_)
        | UnknownStarter::Overlap(_)
        | UnknownStarter::NoIds(_) => "no engine with these ids starts",
    };
    let from = from.unwrap_or_else(|| Provenance::rule("who starts the engine"));
    Err(StarterError::Unknown { from, why, help }.into())
}

/// Says where nobody's engine is meant: a kubelet and a bundle's runtime have no user who starts them.
pub(crate) fn note(
    scene: &Scene,
    workloads: &[Arc<Workload>],
    facts: &Facts,
    err: &mut dyn Write,
) -> std::io::Result<()> {
    let any = |concerned: fn(Runtime) -> bool| {
        workloads.is_empty() || workloads.iter().any(|workload| concerned(scene.runtime_of(workload)))
    };
    if facts.rootless.is_some() && !any(Runtime::has_starter) {
        writeln!(
            err,
            "warning: --rootless is about containers of Docker and Podman: nothing here is one, so it changes nothing"
        )?;
    }
    let docker = match facts.runtime.as_slice() {
        [] => any(|runtime| runtime == Runtime::Docker),
        given => given.contains(&Runtime::Docker),
    };
    if facts.remapped_to.is_some() && !docker {
        writeln!(
            err,
            "warning: --remapped-to is about Docker's daemon, and nothing here is its container: their ids are those all the same"
        )?;
    }
    Ok(())
}

/// The account files in `folder`, in place of what a scene says of each; a missing copy says nothing of the machine, where it is not
/// this one that is looked at.
fn take(scene: &mut Scene, folder: &Path, here: bool) -> Result<(), Failure> {
    let mut found = false;
    let mut text = |name: &str| -> Result<Option<(String, String)>, Failure> {
        let path = folder.join(name);
        let shown = path.display().to_string();
        let read = |mut file: File| {
            let mut bytes = Vec::new();
            Read::by_ref(&mut file).take(MOST + 1).read_to_end(&mut bytes)?;
            if bytes.len() as u64 > MOST {
                return Err(std::io::Error::other("it is larger than 16 MiB, which no account file is"));
            }
            Ok(bytes)
        };
        // What is no file may never end, or never begin (a FIFO).
        if std::fs::metadata(&path).is_ok_and(|there| !there.is_file()) {
            return Err(StarterError::File { path: shown, why: "it is not a file".to_owned() }.into());
        }
        match File::open(&path).and_then(read) {
            Ok(bytes) => {
                found = true;
                Ok(Some((shown, String::from_utf8_lossy(&bytes).into_owned())))
            }
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(StarterError::File { path: shown, why: error.to_string() }.into()),
        }
    };
    let (passwd, group) = (text("passwd")?, text("group")?);
    let (subuid, subgid) = (text("subuid")?, text("subgid")?);
    if !found {
        let path = folder.display().to_string();
        let why = "there is no passwd, group, subuid or subgid in it".to_owned();
        return Err(StarterError::File { path, why }.into());
    }
    if passwd.is_some() || group.is_some() {
        scene.host.accounts = Some(Accounts {
            passwd: passwd.map(|(name, text)| accounts::passwd(&name, &text)),
            group: group.map(|(name, text)| accounts::group(&name, &text)),
            incomplete: None,
        });
    }
    let lines = |text: Option<(String, String)>| match text {
        Some((_, text)) => Some(subordinate(&text)),
        // A machine without these files has given nobody anything.
        None => here.then(Vec::new),
    };
    let (uids, gids) = (lines(subuid), lines(subgid));
    let ids = &mut scene.host.subordinate;
    ids.uids = uids.or(ids.uids.take());
    ids.gids = gids.or(ids.gids.take());
    Ok(())
}
