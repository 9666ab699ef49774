//! What an engine says of a container.

use std::io::Read;

use mivask_disk::place::{Engine, EngineKind};
use percent_encoding::utf8_percent_encode;

use crate::connection::{Connection, reason};
use crate::engine::{MOST_ANSWER, NAME, Way, said};
use crate::error::FetchError;

/// The answer of the engine to the question what the container `name` is, as JSON.
pub(crate) fn container(engine: &Engine, name: &str, connection: &Connection) -> Result<Vec<u8>, FetchError> {
    let word = engine.kind.word();
    let shown = name.escape_debug().to_string();
    let letters = |letter: char| letter.is_ascii_alphanumeric() || "_.-".contains(letter);
    if name.is_empty() || !name.chars().all(letters) {
        return Err(FetchError::missing(format!("`{shown}`"), "is no name of a container".to_owned()));
    }
    let way = Way::to(engine, connection)?;
    let name = utf8_percent_encode(name, NAME).to_string();
    let front = match engine.kind {
        EngineKind::Docker => "/containers",
        EngineKind::Podman => "/v4.0.0/libpod/containers",
    };
    let answer = way.get(&format!("{front}/{name}/json"), word)?;
    if answer.status().as_u16() == 404 {
        return Err(FetchError::missing(word, format!("has no container {shown}"))
            .with_help("list those that there are with `ps --all`"));
    }
    if !answer.status().is_success() {
        return Err(FetchError::new(word, format!("does not tell of {shown}: {}", said(answer))));
    }
    let mut bytes = Vec::new();
    let read = answer.into_body().into_reader().take(MOST_ANSWER).read_to_end(&mut bytes);
    read.map_err(|error| FetchError::new(word, format!("broke off: {}", reason(&error))))?;
    Ok(bytes)
}
