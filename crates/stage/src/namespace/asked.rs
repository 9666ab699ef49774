//! What a description asks for: `--userns`, `userns_mode`, `UserNS=` (podman-run(1), compose-spec "userns_mode").

use std::sync::Arc;

use mivask_model::ids::UserNamespace;

use super::lines::{MapLine, map_line};

/// The user namespace that a description asks for.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NamespaceAsked {
    /// These ids of the host: a scene's own word.
    Ids(Arc<UserNamespace>),
    /// `host`: the engine's own.
    Host,
    /// `--uidmap` and `--gidmap`, in ids of the engine's namespace.
    Lines {
        /// Lines for users.
        uids: Vec<MapLine>,
        /// Lines for groups.
        gids: Vec<MapLine>,
    },
    /// `--subuidname` and `--subgidname`: the subordinate ids of somebody.
    Subordinate(String),
    /// `keep-id`: who starts the engine is somebody inside, the same number unless told otherwise.
    KeepId(KeepId),
    /// `nomap`: who starts the engine is nobody inside.
    NoMap,
    /// `auto`: a range that the engine picks.
    Auto(Auto),
    /// `container:NAME`: that of another one.
    Of(String),
    /// `ns:PATH`, or one of a container elsewhere: nobody knows its ids.
    Elsewhere(String),
    /// What no engine knows.
    Bad(BadMode),
}

/// Options of `keep-id`.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct KeepId {
    /// Inside id of who starts it; the same as outside where left out.
    pub uid: Option<u32>,
    /// Inside group of who starts it; the same as outside where left out.
    pub gid: Option<u32>,
    /// Subordinate ids at most that are mapped, since Podman 5.
    pub size: Option<u32>,
}

/// Options of `auto`.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Auto {
    /// How many ids are picked; enough for the image's accounts where left out.
    pub size: Option<u32>,
    /// Lines for users that are not picked, in ids of the engine's namespace.
    pub uids: Vec<MapLine>,
    /// Lines for groups that are not picked.
    pub gids: Vec<MapLine>,
}

/// Why a mode is none.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum BadMode {
    /// The mode itself.
    #[error(
        "`{0}` is not a user namespace that an engine knows: host, keep-id, nomap, auto, ns:PATH and container:NAME are"
    )]
    Unknown(String),
    /// `private`, which is not enough.
    #[error("`private` needs the lines of a map (--uidmap, --gidmap)")]
    NoLines,
    /// An option of one.
    #[error("`{option}` is not an option of `{mode}`")]
    Option {
        /// The mode.
        mode: &'static str,
        /// The option as written.
        option: String,
    },
}

/// Reads a mode; the empty one is `None`.
#[must_use]
pub fn mode(text: &str) -> Option<NamespaceAsked> {
    let (name, options) = text.split_once(':').map_or((text, None), |(name, options)| (name, Some(options)));
    Some(match (name, options) {
        ("", None) => return None,
        ("host", None) => NamespaceAsked::Host,
        ("nomap", None) => NamespaceAsked::NoMap,
        ("keep-id", options) => keep_id(options).map_or_else(NamespaceAsked::Bad, NamespaceAsked::KeepId),
        ("auto", options) => auto(options).map_or_else(NamespaceAsked::Bad, NamespaceAsked::Auto),
        ("container", Some(name)) if !name.is_empty() => NamespaceAsked::Of(name.to_owned()),
        ("ns", Some(path)) if !path.is_empty() => NamespaceAsked::Elsewhere(text.to_owned()),
        ("private", None) => NamespaceAsked::Bad(BadMode::NoLines),
        _ => NamespaceAsked::Bad(BadMode::Unknown(text.to_owned())),
    })
}

/// `NAME=VALUE` words behind a mode, between commas.
fn words(options: Option<&str>) -> impl Iterator<Item = (&str, &str, &str)> {
    options.into_iter().flat_map(|options| options.split(',')).filter(|word| !word.is_empty()).map(|word| {
        let (name, value) = word.split_once('=').unwrap_or((word, ""));
        (word, name, value)
    })
}

fn keep_id(options: Option<&str>) -> Result<KeepId, BadMode> {
    let mut asked = KeepId::default();
    for (word, name, value) in words(options) {
        let number = value.parse().ok().filter(|number| *number != u32::MAX);
        let bad = || BadMode::Option { mode: "keep-id", option: word.to_owned() };
        let number = Some(number.ok_or_else(bad)?);
        match name {
            "uid" => asked.uid = number,
            "gid" => asked.gid = number,
            "size" => asked.size = number,
            _ => return Err(bad()),
        }
    }
    Ok(asked)
}

fn auto(options: Option<&str>) -> Result<Auto, BadMode> {
    let mut asked = Auto::default();
    for (word, name, value) in words(options) {
        let bad = || BadMode::Option { mode: "auto", option: word.to_owned() };
        let line = || map_line(value).map_err(|_| bad());
        match name {
            // Zero is as if nothing were said (`AutoUserNsOptions.Size`).
            "size" => asked.size = Some(value.parse().map_err(|_| bad())?).filter(|size| *size > 0),
            "uidmapping" => asked.uids.push(line()?),
            "gidmapping" => asked.gids.push(line()?),
            _ => return Err(bad()),
        }
    }
    Ok(asked)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modes_are_read_with_their_options() {
        let keep = |uid, gid, size| Some(NamespaceAsked::KeepId(KeepId { uid, gid, size }));
        assert_eq!(mode("keep-id"), keep(None, None, None));
        assert_eq!(mode("keep-id:uid=405,gid=50"), keep(Some(405), Some(50), None));
        assert_eq!(mode("keep-id:size=9"), keep(None, None, Some(9)));
        assert_eq!(mode("host"), Some(NamespaceAsked::Host));
        assert_eq!(mode(""), None);
        let auto = Auto { size: Some(70_000), ..Auto::default() };
        assert_eq!(mode("auto:size=70000"), Some(NamespaceAsked::Auto(auto)));
        assert_eq!(mode("container:db"), Some(NamespaceAsked::Of("db".to_owned())));
    }

    #[test]
    fn what_is_no_mode_is_refused() {
        for text in [
            "bogus",
            "host:x",
            "private",
            "keep-id:uid=x",
            "keep-id:user=1",
            "auto:size=many",
            "ns:",
            "container:",
            "nomap:1",
        ] {
            assert!(matches!(mode(text), Some(NamespaceAsked::Bad(_))), "{text}");
        }
    }
}
