//! Names of accounts in place of the ids of an answer.

use mivask_model::accounts::Accounts;
use mivask_model::act::Subject;
use mivask_model::glyph::is_obeyed;
use mivask_stage::prepare::HOST;

use crate::names::{AccountNames, Kind};

impl AccountNames {
    /// The name of a user where `actor` is (inside id); of `host` for ids as they are stored.
    #[must_use]
    pub fn user(&self, actor: &str, uid: u32) -> Option<&str> {
        let lines = self.accounts(actor)?.passwd.as_ref()?;
        shown(&lines.iter().find(|line| line.uid == uid)?.name)
    }

    /// The name of a group where `actor` is (inside id).
    #[must_use]
    pub fn group(&self, actor: &str, gid: u32) -> Option<&str> {
        let lines = self.accounts(actor)?.group.as_ref()?;
        shown(&lines.iter().find(|line| line.gid == gid)?.name)
    }

    fn accounts(&self, actor: &str) -> Option<&Accounts> {
        self.place(&Subject::named(actor).actor)
    }

    /// `text` of an answer about `actor` with the names that are known in place of ids: of owners (`7101:7300`), behind `uid`,
    /// `user`, `gid` and `group`, and as stored on the disk behind `stored as`, where the host's names count. Quoted paths stay as
    /// they are.
    #[must_use]
    pub fn in_text(&self, actor: &str, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let mut quoted = false;
        let mut before = ["", ""];
        // `group 5200 and 5300`
        let mut groups = false;
        // Colour codes end a word as blanks do.
        let ends = |c: char| c == ' ' || c == '\n' || c == '\u{1b}';
        for word in text.split_inclusive(ends) {
            let bare = word.trim_end_matches(ends);
            let (code, bare) = match bare.strip_prefix('[').and_then(|rest| rest.split_once('m')) {
                Some((code, rest)) if code.bytes().all(|b| b.is_ascii_digit() || b == b';') => {
                    (bare.len() - rest.len(), rest)
                }
                _ => (0, bare),
            };
            let place = if before == ["stored", "as"] { HOST } else { actor };
            let before_it = if groups && before[1] == "and" { "group" } else { before[1] };
            groups = before_it == "group" || groups && bare == "and";
            let named = if quoted { None } else { self.word(place, before_it, bare) };
            quoted ^= bare.bytes().filter(|byte| *byte == b'"').count() % 2 == 1;
            match named {
                Some(named) => {
                    out.push_str(&word[..code]);
                    out.push_str(&named);
                    out.push_str(&word[code + bare.len()..]);
                }
                None => out.push_str(word),
            }
            if !bare.is_empty() {
                before = [before[1], bare];
            }
        }
        out
    }

    /// A word with names in it; `None` where it stays as it is.
    fn word(&self, place: &str, before: &str, word: &str) -> Option<String> {
        let start = word.find(|c: char| c != '(')?;
        let (open, rest) = word.split_at(start);
        let end = rest.find([',', ';', ')']).unwrap_or(rest.len());
        // A colon behind an owner begins what it is about.
        let end = if rest[..end].ends_with(':') { end - 1 } else { end };
        let (core, close) = rest.split_at(end);
        let named = match (before, core.split_once(':')) {
            ("uid" | "user", None) => self.id(place, Kind::User, core)?,
            ("gid" | "group", None) => self.id(place, Kind::Group, core)?,
            (_, Some((uid, gid))) if is_id(uid) && is_id(gid) => {
                let user = self.id(place, Kind::User, uid);
                let group = self.id(place, Kind::Group, gid);
                if user.is_none() && group.is_none() {
                    return None;
                }
                format!("{}:{}", user.as_deref().unwrap_or(uid), group.as_deref().unwrap_or(gid))
            }
            _ => return None,
        };
        Some(format!("{open}{named}{close}"))
    }

    fn id(&self, place: &str, kind: Kind, text: &str) -> Option<String> {
        let id = text.parse().ok().filter(|_| is_id(text) && text != "?")?;
        let name = match kind {
            Kind::User => self.user(place, id),
            Kind::Group => self.group(place, id),
        };
        name.map(ToOwned::to_owned)
    }
}

/// A name that can be shown as it is: of any other the id says more.
fn shown(name: &str) -> Option<&str> {
    let plain = !name.is_empty() && !name.chars().any(|c| is_obeyed(c) || c.is_whitespace());
    plain.then_some(name)
}

/// Whether it is an id as answers print it: no leading zero, or `?`.
fn is_id(text: &str) -> bool {
    text == "?"
        || text == "0"
        || !text.is_empty() && !text.starts_with('0') && text.bytes().all(|byte| byte.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use mivask_model::accounts::{GroupLine, UserLine};
    use mivask_model::fact::Provenance;
    use mivask_stage::scene::Scene;

    use super::*;

    #[test]
    fn owners_and_ids_get_their_names_and_nothing_else_does() {
        let from = Provenance::rule("test");
        let user = |name: &str, uid| UserLine::new(name, uid, uid, from.clone());
        let group = |name: &str, gid| GroupLine::new(name, gid, from.clone());
        let mut scene = Scene::default();
        scene.host.accounts = Some(Accounts {
            passwd: Some(vec![user("root", 0), user("keeper", 5101)]),
            group: Some(vec![group("root", 0), group("bees", 5200)]),
            incomplete: None,
        });
        let names = AccountNames::of(&scene);
        for (text, wanted) in [
            ("leaves 5101:5200 0640", "leaves keeper:bees 0640"),
            ("-rw-r----- 0640 5101:7: other has ---", "-rw-r----- 0640 keeper:7: other has ---"),
            ("0:0 0755", "root:root 0755"),
            ("drwx 0700 ?:5200", "drwx 0700 ?:bees"),
            ("7:8 0640", "7:8 0640"),
            ("group 5200 has r-x, needed --x", "group bees has r-x, needed --x"),
            ("uid 5101, if in group 5200", "uid keeper, if in group bees"),
            ("runs as 5101:5200 with CHOWN", "runs as keeper:bees with CHOWN"),
            ("(5101:5200)", "(keeper:bees)"),
            ("any member of group 7 and 5200 (ada)", "any member of group 7 and bees (ada)"),
            ("group 7 has r-- and 5200 more", "group 7 has r-- and 5200 more"),
            ("0644 5:6, stored as 5101:5200", "0644 5:6, stored as keeper:bees"),
            ("\u{1b}[1m5101:5200\u{1b}[0m 0640", "\u{1b}[1mkeeper:bees\u{1b}[0m 0640"),
            // Paths, places and modes are none.
            ("/v/5101:5200", "/v/5101:5200"),
            ("\"/v/a 5101:5200 b\" 5101:5200", "\"/v/a 5101:5200 b\" keeper:bees"),
            ("s.yaml:5101:5200 user", "s.yaml:5101:5200 user"),
            ("mode 0:05200", "mode 0:05200"),
            ("5101 files", "5101 files"),
        ] {
            assert_eq!(names.in_text(HOST, text), wanted, "{text}");
        }
        assert_eq!(names.in_text("nobody-here", "0:0 0755"), "0:0 0755");
    }
}
