//! The names of images (OCI distribution specification, and what engines make of short names).

use std::fmt;

use crate::image::Digest;

/// Where names without a registry are looked for.
const USUAL_REGISTRY: &str = "docker.io";
/// What the one-word names of that registry stand in.
const USUAL_FOLDER: &str = "library/";
/// What a name without a tag means.
const USUAL_TAG: &str = "latest";
/// The longest name of a repository (OCI distribution specification, "Pulling manifests").
const LONGEST: usize = 255;

/// The name of an image, in full.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Reference {
    /// The registry's host, with its port where it has one.
    pub registry: String,
    /// The repository.
    pub repository: String,
    /// The tag; left out where there is a digest alone.
    pub tag: Option<String>,
    /// The digest that the manifest has to have.
    pub digest: Option<Digest>,
}

impl Reference {
    /// Reads a name as engines do: `gauge`, `tides/gauge:3`, `registry.example:5000/tides/gauge@sha256:...`.
    ///
    /// # Errors
    /// It cannot be the name of an image; the text says what is wrong.
    pub fn parse(name: &str) -> Result<Self, String> {
        let (rest, digest) = match name.split_once('@') {
            Some((rest, digest)) => (rest, Some(Digest::try_from(digest.to_owned())?)),
            None => (name, None),
        };
        let (front, tag) = match rest.rsplit_once(':') {
            Some((front, tag)) if !tag.contains('/') => (front, Some(tag)),
            _ => (rest, None),
        };
        let (registry, repository) = match front.split_once('/') {
            Some((host, path)) if host == "localhost" || host.contains(['.', ':']) => (host, path.to_owned()),
            Some(_) => (USUAL_REGISTRY, front.to_owned()),
            None => (USUAL_REGISTRY, format!("{USUAL_FOLDER}{front}")),
        };
        let repository = match registry {
            USUAL_REGISTRY if !repository.contains('/') => format!("{USUAL_FOLDER}{repository}"),
            _ => repository,
        };
        if !is_host(registry) {
            return Err(format!("`{}` is no host of a registry", registry.escape_debug()));
        }
        if repository.len() > LONGEST || !repository.split('/').all(is_component) {
            return Err(
                "a repository has lower-case letters, digits and single . _ - between them".to_owned()
            );
        }
        if let Some(tag) = tag.filter(|tag| !is_tag(tag)) {
            return Err(format!("`{}` is no tag", tag.escape_debug()));
        }
        let tag = match (tag, &digest) {
            (Some(tag), _) => Some(tag.to_owned()),
            (None, Some(_)) => None,
            (None, None) => Some(USUAL_TAG.to_owned()),
        };
        Ok(Self { registry: registry.to_owned(), repository, tag, digest })
    }

    /// What the manifest is asked for by: the digest where there is one.
    #[must_use]
    pub fn asked(&self) -> String {
        match (&self.digest, &self.tag) {
            (Some(digest), _) => digest.to_string(),
            (None, Some(tag)) => tag.clone(),
            (None, None) => USUAL_TAG.to_owned(),
        }
    }

    /// The same image elsewhere: below `prefix` of `registry`.
    #[must_use]
    pub fn at(&self, registry: &str, prefix: &str) -> Self {
        let repository = match prefix {
            "" => self.repository.clone(),
            prefix => format!("{prefix}/{}", self.repository),
        };
        Self { registry: registry.to_owned(), repository, ..self.clone() }
    }

    /// Whether its registry is the one that names without a registry mean.
    #[must_use]
    pub fn is_usual_registry(&self) -> bool {
        self.registry == USUAL_REGISTRY
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.registry, self.repository)?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        self.digest.iter().try_for_each(|digest| write!(f, "@{digest}"))
    }
}

/// Whether this is a host with or without a port: nothing in it can lead elsewhere in an address.
#[must_use]
pub fn is_host(text: &str) -> bool {
    let (host, port) = match text.strip_prefix('[') {
        Some(six) => match six.split_once(']') {
            Some((host, port)) => (host, port),
            None => return false,
        },
        None => text.split_at(text.find(':').unwrap_or(text.len())),
    };
    let six = text.starts_with('[');
    let plain = |byte: u8| {
        byte.is_ascii_alphanumeric() || byte == b'.' || if six { byte == b':' } else { byte == b'-' }
    };
    let port_fits = port.is_empty() || port.strip_prefix(':').is_some_and(|port| port.parse::<u16>().is_ok());
    !host.is_empty()
        && host.len() <= LONGEST
        && host.bytes().all(plain)
        && !host.starts_with(['.', '-'])
        && port_fits
}

/// `[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*`
pub(crate) fn is_component(text: &str) -> bool {
    let alphanumeric = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit();
    let mut runs = text.split(|c: char| c.is_ascii() && alphanumeric(c as u8));
    let inner = |run: &str| matches!(run, "" | "." | "_" | "__") || run.bytes().all(|byte| byte == b'-');
    !text.is_empty()
        && text.bytes().next().is_some_and(alphanumeric)
        && text.bytes().next_back().is_some_and(alphanumeric)
        && runs.all(inner)
}

/// `[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}`
fn is_tag(text: &str) -> bool {
    let word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
    text.len() <= 128
        && text.bytes().next().is_some_and(word)
        && text.bytes().all(|byte| word(byte) || matches!(byte, b'.' | b'-'))
}

#[cfg(test)]
mod tests {
    use super::Reference;

    #[test]
    fn names_are_read_as_engines_do() {
        let digest = format!("sha256:{}", "0a".repeat(32));
        for (name, full) in [
            ("gauge", "docker.io/library/gauge:latest"),
            ("gauge:3", "docker.io/library/gauge:3"),
            ("tides/gauge", "docker.io/tides/gauge:latest"),
            ("docker.io/gauge:3", "docker.io/library/gauge:3"),
            ("localhost/gauge", "localhost/gauge:latest"),
            ("registry.example:5000/a/b_c/d--e:V1.2_x", "registry.example:5000/a/b_c/d--e:V1.2_x"),
            ("[2001:db8::1]:5000/gauge:3", "[2001:db8::1]:5000/gauge:3"),
            ("127.0.0.1:5000/gauge", "127.0.0.1:5000/gauge:latest"),
        ] {
            assert_eq!(Reference::parse(name).map(|name| name.to_string()), Ok(full.to_owned()), "{name}");
        }
        let both = Reference::parse(&format!("tides/gauge:3@{digest}")).unwrap();
        assert_eq!((both.asked(), both.tag.as_deref()), (digest.clone(), Some("3")));
        assert_eq!(Reference::parse(&format!("gauge@{digest}")).unwrap().tag, None);
    }

    #[test]
    fn nothing_in_a_name_leads_elsewhere() {
        for name in [
            "",
            ":",
            "@",
            "Gauge",
            "a//b",
            "/a",
            "a/",
            "a/../b",
            "a?x=1",
            "a#b",
            "a b",
            "a:b c",
            "a:",
            "a@sha256:00",
            "host.example:99999/a",
            "ho%2fst.example/a",
            "user@host.example/a",
            "a\n",
            "-x",
            "a/-b",
            "a___b",
            "a..b",
            "tä/x",
            "[::1/a",
            ".example/a",
            "http://host.example/a",
        ] {
            assert!(Reference::parse(name).is_err(), "{name:?} is taken for {:?}", Reference::parse(name));
        }
    }
}
