//! Accounts at registries, from where container tools keep them.

use std::collections::BTreeMap;
use std::fs;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use base64::prelude::{BASE64_STANDARD, Engine};
use mivask_disk::reference::Reference;
use serde::Deserialize;

use crate::local;

/// An account at a registry.
#[derive(Clone, PartialEq, Eq)]
pub(crate) struct Account {
    pub secret: Secret,
    /// Where it was found.
    pub from: String,
}

/// What is shown to a registry. It is never printed.
#[derive(Clone, PartialEq, Eq)]
pub(crate) enum Secret {
    Password {
        user: String,
        password: String,
    },
    /// Something that a token is given for.
    Identity(String),
}

/// `config.json` and `auth.json`.
#[derive(Deserialize, Default)]
#[serde(rename_all = "camelCase", default)]
struct File {
    auths: BTreeMap<String, Entry>,
    cred_helpers: BTreeMap<String, String>,
    creds_store: Option<String>,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "lowercase", default)]
struct Entry {
    auth: Option<String>,
    username: Option<String>,
    password: Option<String>,
    identitytoken: Option<String>,
}

/// The files, in the order they are looked into.
fn files() -> Vec<PathBuf> {
    if let Some(only) = local::variable("REGISTRY_AUTH_FILE") {
        return vec![only.into()];
    }
    let docker = local::variable("DOCKER_CONFIG").map(PathBuf::from);
    let docker = docker.or_else(|| local::home().map(|home| home.join(".docker")));
    let run = [local::runtime().join("containers/auth.json")];
    let own = local::config().map(|config| config.join("containers/auth.json"));
    run.into_iter().chain(own).chain(docker.map(|folder| folder.join("config.json"))).collect()
}

/// The account for an image; `None` where there is none. The error is a file or a helper that does not work.
pub(crate) fn account(image: &Reference) -> Result<Option<Account>, String> {
    for path in files() {
        let bytes = match fs::read(&path) {
            Ok(bytes) => bytes,
            Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => continue,
            Err(error) => return Err(format!("{}: {error}", path.display())),
        };
        let file: File = serde_json::from_slice(&bytes).map_err(|error| {
            format!("{}:{}:{}: {}", path.display(), error.line(), error.column(), plain(&error))
        })?;
        if let Some(found) = file.account(image, &path)? {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

/// What is wrong, without the place, which is said before.
fn plain(error: &serde_json::Error) -> String {
    let said = error.to_string();
    said.split(" at line ").next().unwrap_or_default().to_owned()
}

impl File {
    fn account(&self, image: &Reference, path: &Path) -> Result<Option<Account>, String> {
        let names = names(image);
        for name in &names {
            if let Some(helper) = self.cred_helpers.get(name) {
                return ask(helper, name);
            }
            let entry = self.auths.iter().find(|(key, _)| bare(key) == name);
            if let Some(secret) = entry.map(|(_, entry)| entry.secret(path)).transpose()?.flatten() {
                return Ok(Some(Account { secret, from: path.display().to_string() }));
            }
        }
        let Some(store) = &self.creds_store else { return Ok(None) };
        // A store is asked by the name that its tool signs in with.
        let known = if image.is_usual_registry() { USUAL_SERVER } else { &image.registry };
        ask(store, known)
    }
}

/// What tools call the registry that names without one mean.
const USUAL_SERVER: &str = "https://index.docker.io/v1/";

/// What entries for an image may be called, the narrowest first: folders of it, then its registry.
fn names(image: &Reference) -> Vec<String> {
    let whole = format!("{}/{}", image.registry, image.repository);
    let above = whole.match_indices('/').rev().map(|(at, _)| whole[..at].to_owned());
    let mut names: Vec<String> = std::iter::once(whole.clone()).chain(above).collect();
    if image.is_usual_registry() {
        names.push(bare(USUAL_SERVER).to_owned());
    }
    names
}

/// A key without its scheme and the version of an interface.
fn bare(key: &str) -> &str {
    let key = key.strip_prefix("https://").or(key.strip_prefix("http://")).unwrap_or(key);
    let key = key.trim_end_matches('/');
    key.strip_suffix("/v1").or(key.strip_suffix("/v2")).unwrap_or(key)
}

impl Entry {
    fn secret(&self, path: &Path) -> Result<Option<Secret>, String> {
        if let Some(token) = self.identitytoken.as_ref().filter(|token| !token.is_empty()) {
            return Ok(Some(Secret::Identity(token.clone())));
        }
        if let (Some(user), Some(password)) = (&self.username, &self.password) {
            return Ok(Some(Secret::Password { user: user.clone(), password: password.clone() }));
        }
        let Some(packed) = self.auth.as_ref().filter(|packed| !packed.is_empty()) else { return Ok(None) };
        let wrong = || format!("{}: an `auth` in it is not NAME:PASSWORD in base64", path.display());
        let text = BASE64_STANDARD.decode(packed.trim()).map_err(|_| wrong())?;
        let text = String::from_utf8(text).map_err(|_| wrong())?;
        let (user, password) = text.split_once(':').ok_or_else(wrong)?;
        let password = password.trim_end_matches('\0').to_owned();
        Ok(Some(Secret::Password { user: user.to_owned(), password }))
    }
}

/// What a helper program answers.
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Answer {
    username: String,
    secret: String,
}

/// Asks the helper program `docker-credential-NAME` for a server.
fn ask(helper: &str, server: &str) -> Result<Option<Account>, String> {
    let program = format!("docker-credential-{helper}");
    if helper.contains('/') {
        return Err(format!("`{}` is no name of a credential helper", helper.escape_debug()));
    }
    let failed = |what: String| format!("{program} get: {what}");
    let mut child = Command::new(&program)
        .arg("get")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| failed(error.to_string()))?;
    if let Some(mut input) = child.stdin.take() {
        // One that reads nothing still answers.
        let _ = input.write_all(server.as_bytes());
    }
    let output = child.wait_with_output().map_err(|error| failed(error.to_string()))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).trim().to_owned();
        if said.contains("credentials not found") {
            return Ok(None);
        }
        return Err(failed(said.chars().take(200).collect()));
    }
    let answer: Answer = serde_json::from_slice(&output.stdout)
        .map_err(|_| failed("it answers in another form".to_owned()))?;
    let secret = match answer.username.as_str() {
        "<token>" => Secret::Identity(answer.secret),
        _ => Secret::Password { user: answer.username, password: answer.secret },
    };
    Ok(Some(Account { secret, from: program }))
}

#[cfg(test)]
mod tests {
    use super::{File, Secret};
    use mivask_disk::reference::Reference;
    use std::path::Path;

    fn user(file: &str, image: &str) -> Option<String> {
        let file: File = serde_json::from_str(file).unwrap();
        let found = file.account(&Reference::parse(image).unwrap(), Path::new("auth.json")).unwrap()?;
        Some(match found.secret {
            Secret::Password { user, password } => format!("{user}:{password}"),
            Secret::Identity(token) => format!("token {token}"),
        })
    }

    #[test]
    fn the_narrowest_entry_counts() {
        let file = r#"{"auths": {
            "registry.example:5000": {"auth": "YTpi"},
            "registry.example:5000/tides": {"auth": "YzpkOmU="},
            "registry.example:5000/tides/gauge": {"identitytoken": "t"},
            "https://index.docker.io/v1/": {"username": "hub", "password": "p"},
            "other.example": {}
        }}"#;
        for (image, found) in [
            ("registry.example:5000/x", Some("a:b")),
            ("registry.example:5000/tides/quay:2", Some("c:d:e")),
            ("registry.example:5000/tides/gauge:2", Some("token t")),
            ("gauge:3", Some("hub:p")),
            ("other.example/x", None),
            ("registry.example/x", None),
        ] {
            assert_eq!(user(file, image).as_deref(), found, "{image}");
        }
    }

    #[test]
    fn what_is_no_password_is_said() {
        let file: File = serde_json::from_str(r#"{"auths": {"a.example": {"auth": "!!"}}}"#).unwrap();
        let wrong = file.account(&Reference::parse("a.example/x").unwrap(), Path::new("auth.json"));
        assert!(wrong.err().unwrap().contains("auth.json: an `auth` in it is not"));
    }
}
