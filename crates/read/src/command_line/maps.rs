//! `--uidmap` and `--gidmap`: the maps of a container's own user namespace (podman-run(1)).

use mivask_core::fact::Fact;
use mivask_core::namespace::{BadLine, MapLine, NamespaceAsked, map_line};
use mivask_core::unmodelled::Unmodelled;

use super::run::{Reading, Run};
use super::words::Word;
use crate::diagnostic::Severity;

impl Reading<'_> {
    /// Gives the container its maps; of those that only a shell or the engine's accounts could tell the answers depend.
    pub(super) fn maps(&mut self, run: &mut Run) {
        let Some((name, first)) = run.maps.first().cloned() else { return };
        let from = self.source.place(&first.span, &name);
        if run.service.has("userns_mode") {
            let message = format!("`--{name}` and `--userns` exclude one another");
            return self.say(Severity::Error, &first, &message, Some("keep one of them".to_owned()));
        }
        if let Some(user) = subordinate(&run.maps) {
            run.user_namespace = Some(Fact::new(NamespaceAsked::Subordinate(user), from));
            return;
        }
        let mut uids = Vec::new();
        let mut gids = Vec::new();
        let mut told = true;
        for (name, word) in std::mem::take(&mut run.maps) {
            let both = match name.as_str() {
                _ if word.unknown.is_some() => None,
                "uidmap" => Some(lines(&word.text, Side::Users)),
                "gidmap" => Some(lines(&word.text, Side::Groups)),
                // `--subuidname`: the lines of somebody in the engine's own subuid.
                _ => None,
            };
            match both {
                Some(Ok((users, groups))) => {
                    uids.extend(users);
                    gids.extend(groups);
                }
                Some(Err(bad)) => {
                    let help = Some("write INSIDE:FROM:COUNT, such as 0:100000:65536".to_owned());
                    self.say(Severity::Error, &word, &bad.to_string(), help);
                }
                None => told = false,
            }
        }
        if told && uids.is_empty() && gids.is_empty() {
            return;
        }
        if told {
            run.user_namespace = Some(Fact::new(NamespaceAsked::Lines { uids, gids }, from));
            return;
        }
        let settle = "write them as numbers, INSIDE:FROM:COUNT, or give the maps under `host: { user-namespace: ... }` in a scene file";
        let what = format!("`--{name}`");
        let message = format!("{what} in this form is not modelled: answers depend on the ids it gives");
        self.say(Severity::Warning, &first, &message, Some(settle.to_owned()));
        run.unmodelled.push(Unmodelled::ids(&what, settle, from));
    }
}

/// Whose subordinate ids alone are asked for; one name for both, since Podman 4.3 takes two for one another.
fn subordinate(maps: &[(String, Word)]) -> Option<String> {
    let (_, first) = maps.first()?;
    let same = |(name, word): &(String, Word)| {
        ["subuidname", "subgidname"].contains(&name.as_str())
            && word.unknown.is_none()
            && word.text == first.text
    };
    (maps.iter().all(same) && !first.text.is_empty()).then(|| first.text.clone())
}

/// Whom an option maps.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Side {
    Users,
    Groups,
}

/// Lines for users, and for groups.
type Lines = (Vec<MapLine>, Vec<MapLine>);

/// The lines of one value, one behind the other as older Podmans take them; letters in front say whom each is for. An
/// empty one is passed over.
fn lines(text: &str, side: Side) -> Result<Lines, BadLine> {
    if text.is_empty() {
        return Ok(Lines::default());
    }
    let flags = text.len() - text.trim_start_matches(['+', 'u', 'g']).len();
    let (flags, numbers) = text.split_at(flags);
    let plus = if flags.contains('+') { "+" } else { "" };
    let parts: Vec<&str> = numbers.split(':').collect();
    // Two numbers are a line of one id; else they come in threes.
    let chunks = if parts.len() == 2 { vec![parts.as_slice()] } else { parts.chunks(3).collect() };
    let mut all = Lines::default();
    for chunk in chunks {
        let line = map_line(&format!("{plus}{}", chunk.join(":")))?;
        let users = flags.contains('u') || (!flags.contains('g') && side == Side::Users);
        let groups = flags.contains('g') || (!flags.contains('u') && side == Side::Groups);
        if users {
            all.0.push(line);
        }
        if groups {
            all.1.push(line);
        }
    }
    Ok(all)
}
