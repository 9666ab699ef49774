//! Containers that an engine knows: `container:NAME`, `container:docker:NAME`, `container:podman:NAME`.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use mivask_disk::place::{Engine, EngineKind};

/// How such an input is named.
const PREFIX: &str = "container:";

/// A container by its name or id.
pub(crate) struct Named<'a> {
    name: &'a str,
    /// Whose it is; without one both engines are asked.
    engine: Option<EngineKind>,
}

impl<'a> Named<'a> {
    /// The container that an argument names.
    pub(crate) fn of(argument: &'a Path) -> Option<Self> {
        let rest = argument.to_str()?.strip_prefix(PREFIX)?;
        let given = rest.split_once(':').and_then(|(word, name)| {
            let kind =
                [EngineKind::Docker, EngineKind::Podman].into_iter().find(|kind| kind.word() == word)?;
            Some(Self { name, engine: Some(kind) })
        });
        Some(given.unwrap_or(Self { name: rest, engine: None }))
    }

    /// What its engine says of it, as JSON.
    ///
    /// # Errors
    /// No engine has it, or both have one of that name.
    pub(crate) fn json(&self) -> io::Result<Vec<u8>> {
        // One run asks once, so that all of it is about one state.
        static ASKED: Mutex<BTreeMap<String, Vec<u8>>> = Mutex::new(BTreeMap::new());
        let key = format!("{}:{}", self.engine.map_or("", EngineKind::word), self.name);
        let mut asked = ASKED.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = asked.get(&key) {
            return Ok(known.clone());
        }
        let answer = self.asked()?;
        asked.insert(key, answer.clone());
        Ok(answer)
    }

    fn asked(&self) -> io::Result<Vec<u8>> {
        let kinds = match self.engine {
            Some(kind) => vec![kind],
            None => vec![EngineKind::Docker, EngineKind::Podman],
        };
        let mut found = Vec::new();
        let mut failed = Vec::new();
        for kind in kinds {
            match ask(&Engine { kind, address: None }, self.name) {
                Ok(answer) => found.push((kind, answer)),
                Err(why) if failed.contains(&why) => {}
                Err(why) => failed.push(why),
            }
        }
        match found.as_slice() {
            [] => Err(io::Error::other(failed.join("; "))),
            [_] => Ok(found.swap_remove(0).1),
            _ => {
                let name = self.name;
                let both =
                    format!("two engines have one: write {PREFIX}docker:{name} or {PREFIX}podman:{name}");
                Err(io::Error::other(both))
            }
        }
    }

    /// The process of this machine that it is, where it runs here.
    pub(crate) fn process(&self, json: &[u8]) -> Option<(u32, String)> {
        let told: serde_json::Value = serde_json::from_slice(json).ok()?;
        let id = told.get("Id")?.as_str().filter(|id| id.len() >= 12)?;
        let pid = u32::try_from(told.get("State")?.get("Pid")?.as_u64()?).ok().filter(|pid| *pid > 0)?;
        let read = |name: &str| std::fs::read_to_string(format!("/proc/{pid}/{name}")).unwrap_or_default();
        // An engine of another machine may name a number that is somebody else's here.
        let is_it = read("cgroup").contains(id) || read("mountinfo").contains(id);
        let name = told.get("Name").and_then(serde_json::Value::as_str).unwrap_or(self.name);
        is_it.then(|| (pid, name.trim_start_matches('/').to_owned()))
    }
}

#[cfg(feature = "network")]
fn ask(engine: &Engine, name: &str) -> Result<Vec<u8>, String> {
    crate::images::fetcher().container(engine, name).map_err(|error| {
        let help = error.help.as_ref().map_or_else(String::new, |help| format!(" ({help})"));
        format!("{error}{help}")
    })
}

#[cfg(not(feature = "network"))]
fn ask(_: &Engine, _: &str) -> Result<Vec<u8>, String> {
    Err(crate::images::NOT_BUILT_IN.to_owned())
}
