//! Where images are looked for.

use std::fmt;
use std::path::PathBuf;

use crate::reference::{is_component, is_host};

/// A place where images are looked for.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Place {
    /// Their own registry, or one that has them in its stead.
    Registry(Option<Base>),
    /// An engine's store.
    Engine(Engine),
    /// A folder of archives and layouts.
    Folder(PathBuf),
}

/// A registry that has the images of others.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Base {
    /// Whether it speaks HTTP without TLS.
    pub plain: bool,
    /// Its host, with its port where it has one.
    pub host: String,
    /// What its repositories begin with; empty for nothing.
    pub prefix: String,
}

/// An engine, asked through its socket.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Engine {
    /// Whose interface it has.
    pub kind: EngineKind,
    /// Its address as `DOCKER_HOST` has it; the usual ones where left out.
    pub address: Option<String>,
}

/// Whose interface an engine has.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum EngineKind {
    /// The Docker Engine API.
    Docker,
    /// Podman's service.
    Podman,
}

impl EngineKind {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Docker => "docker",
            Self::Podman => "podman",
        }
    }
}

/// A place that is none.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct BadPlace(String);

impl fmt::Display for BadPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for BadPlace {}

impl Place {
    /// Reads the name of an image together with where it is: `registry:NAME`, `registry:http://HOST/NAME`, `docker:NAME`,
    /// `podman:NAME`. `None` where `text` is something else, such as a path.
    #[must_use]
    pub fn of_image(text: &str) -> Option<(Self, String)> {
        let (word, name) = text.split_once(':')?;
        let engine = |kind| Self::Engine(Engine { kind, address: None });
        let place = match word {
            "registry" => {
                let host = name.strip_prefix("http://").and_then(|rest| rest.split_once('/'));
                let base =
                    host.map(|(host, _)| Base { plain: true, host: host.to_owned(), prefix: String::new() });
                Self::Registry(base)
            }
            "docker" => engine(EngineKind::Docker),
            "podman" => engine(EngineKind::Podman),
            _ => return None,
        };
        Some((place, name.trim_start_matches("http://").to_owned()))
    }

    /// Reads a place: `registry`, `registry:HOST[:PORT][/PREFIX]`, `registry:http://HOST...`, `docker`, `podman`,
    /// `docker:ADDRESS`, or the path of a folder.
    ///
    /// # Errors
    /// It is none; the text says what to write.
    pub fn parse(text: &str) -> Result<Self, BadPlace> {
        let (word, rest) = match text.split_once(':') {
            Some((word, rest)) => (word, Some(rest)),
            None => (text, None),
        };
        let engine = |kind| Ok(Self::Engine(Engine { kind, address: rest.map(str::to_owned) }));
        match word {
            "registry" => Ok(Self::Registry(rest.map(Base::parse).transpose()?)),
            "docker" => engine(EngineKind::Docker),
            "podman" => engine(EngineKind::Podman),
            _ if text.contains('/') || std::path::Path::new(text).is_dir() => Ok(Self::Folder(text.into())),
            _ => Err(BadPlace(format!(
                "`{}` is no place for images: write registry, registry:HOST, docker, podman or the path of a folder",
                text.escape_debug()
            ))),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Registry(None) => f.write_str("registry"),
            Self::Registry(Some(base)) => write!(f, "registry:{base}"),
            Self::Engine(Engine { kind, address: None }) => f.write_str(kind.word()),
            Self::Engine(Engine { kind, address: Some(address) }) => write!(f, "{}:{address}", kind.word()),
            Self::Folder(path) => path.display().fmt(f),
        }
    }
}

impl Base {
    /// `[http://|https://]HOST[:PORT][/PREFIX]`
    fn parse(text: &str) -> Result<Self, BadPlace> {
        let (plain, rest) = match (text.strip_prefix("http://"), text.strip_prefix("https://")) {
            (Some(rest), _) => (true, rest),
            (None, Some(rest)) => (false, rest),
            (None, None) => (false, text),
        };
        let (host, prefix) = rest.split_once('/').unwrap_or((rest, ""));
        let prefix = prefix.trim_end_matches('/');
        if !is_host(host) || !(prefix.is_empty() || prefix.split('/').all(is_component)) {
            return Err(BadPlace(format!(
                "`{}` is no registry: write HOST[:PORT], with http:// in front where it has no TLS",
                text.escape_debug()
            )));
        }
        Ok(Self { plain, host: host.to_owned(), prefix: prefix.to_owned() })
    }
}

impl fmt::Display for Base {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (scheme, slash) =
            (if self.plain { "http://" } else { "" }, if self.prefix.is_empty() { "" } else { "/" });
        write!(f, "{scheme}{}{slash}{}", self.host, self.prefix)
    }
}

#[cfg(test)]
mod tests {
    use super::Place;

    #[test]
    fn places_are_written_as_they_are_read() {
        for text in [
            "registry",
            "registry:registry.example",
            "registry:http://localhost:5000",
            "registry:registry.example:5000/mirror/hub",
            "docker",
            "podman:/run/user/1000/podman/podman.sock",
            "docker:tcp://127.0.0.1:2375",
            "./images",
            "/srv/images",
        ] {
            assert_eq!(Place::parse(text).map(|place| place.to_string()), Ok(text.to_owned()));
        }
        let plain = Place::of_image("registry:http://localhost:5000/tides/gauge:3");
        let shown = plain.map(|(place, name)| (place.to_string(), name));
        assert_eq!(
            shown,
            Some(("registry:http://localhost:5000".into(), "localhost:5000/tides/gauge:3".into()))
        );
        assert_eq!(Place::of_image("./registry:x"), None);
        for bad in [
            "",
            "regist",
            "registry:",
            "registry:http://",
            "registry:ftp://x",
            "registry:a b",
            "registry:x/A",
        ] {
            assert!(Place::parse(bad).is_err(), "{bad}");
        }
    }
}
