//! Words that only a shell could tell: what is not known then, and where no answer would be worth something.

use mivask_core::fact::Unknown;
use mivask_core::outcome::Errno;
use mivask_core::unmodelled::Unmodelled;

use super::made::{Made, plain, text};
use super::options::Meaning;
use super::run::{Reading, Run};
use super::words::Word;
use crate::diagnostic::Severity;

impl Reading<'_> {
    /// An option whose value only a shell can tell.
    pub(super) fn untold(
        &mut self,
        name: &str,
        meaning: Meaning,
        (value, unknown): (&Word, &str),
        run: &mut Run,
    ) {
        let from = self.source.place(&value.span, name);
        let dashes = if name.chars().count() == 1 { "-" } else { "--" };
        let what = format!("`{dashes}{name} {}`", value.text.escape_debug());
        let settle = format!("write it where `{}` stands", unknown.escape_debug());
        if matches!(
            meaning,
            Meaning::Entrypoint | Meaning::Environment | Meaning::Text("working_dir" | "network_mode")
        ) {
            // A wrong guess about these is none: what they decide is not known then.
            if meaning != Meaning::Environment {
                run.unmodelled.push(Unmodelled::policy(&what, Errno::ENOENT, from));
            }
            return;
        }
        let place = match meaning {
            Meaning::Element("volumes") => known_target(&value.text, unknown),
            Meaning::Mount => known_field(&value.text, unknown),
            Meaning::Element("tmpfs" | "volumes_from") => None,
            Meaning::Text("user") => {
                self.unsure(&what, unknown, value, &settle);
                run.untold = Some(Unknown::new(&what, &settle));
                return;
            }
            Meaning::Text(_)
            | Meaning::Element(_)
            | Meaning::Truth(_)
            | Meaning::Name
            | Meaning::Environment
            | Meaning::Entrypoint
            | Meaning::Umask
            | Meaning::Ids
            | Meaning::Pod
            | Meaning::Files
            | Meaning::Scratch
            | Meaning::Value
            | Meaning::Switch => {
                self.unsure(&what, unknown, value, &settle);
                run.unmodelled.push(Unmodelled::ids(&what, &settle, from));
                return;
            }
        };
        let Some((source, target)) = place else { return self.undecided(value) };
        self.unsure(&what, unknown, value, &settle);
        self.untold_source(source, target, value, run);
    }

    /// Says what is not known, and goes on.
    fn unsure(&mut self, what: &str, unknown: &str, value: &Word, settle: &str) {
        let unknown = unknown.escape_debug();
        let message = format!("{what} is not known here: answers depend on what `{unknown}` is");
        self.say(Severity::Warning, value, &message, Some(settle.to_owned()));
    }

    /// A word that may put a mount anywhere, or decide anything: no answer about any path would be worth something.
    pub(super) fn undecided(&mut self, word: &Word) {
        let unknown = word.unknown.as_deref().unwrap_or_default().escape_debug().to_string();
        let (who, further) = if unknown.starts_with('%') {
            ("systemd", "give the unit under the name of an instance")
        } else {
            ("a shell", "set it in the script")
        };
        let message = format!(
            "what `{unknown}` is decides what is mounted where, or who runs, and only {who} can tell"
        );
        let help = format!("write it where `{unknown}` stands, or {further}");
        self.say(Severity::Error, word, &message, Some(help));
    }

    /// A volume of which only the place is known: `--disk` can give it by what stands there.
    fn untold_source(&mut self, source: &str, target: &str, value: &Word, run: &mut Run) {
        let span = &value.span;
        let mut volume = Made::default();
        volume.set("external", plain("true", span));
        self.volumes.set(source, volume.node(span.clone()));
        let mut made = Made::default();
        made.set("type", text("volume", span));
        made.set("source", text(source, span));
        made.set("target", text(target, span));
        let behind = &value.text[value.text.rfind(target).map_or(0, |at| at + target.len())..];
        let words = value.text.split(',').chain(behind.split([',', ':']));
        if words
            .into_iter()
            .any(|word| ["ro", "readonly", "ro=true", "readonly=true", "ro=1", "readonly=1"].contains(&word))
        {
            made.set("read_only", plain("true", span));
        }
        run.service.add("volumes", made.node(span.clone()));
    }
}

/// Whether nothing in it is left to a shell, or to a specifier where those are what is not known.
fn is_told(text: &str, unknown: &str) -> bool {
    !(text.contains(['$', '`']) || unknown.starts_with('%') && text.contains('%'))
}

/// Source and target of a short volume whose source alone is not known.
fn known_target<'w>(short: &'w str, unknown: &str) -> Option<(&'w str, &'w str)> {
    let at = short.rfind(":/")?;
    let (source, target) = (&short[..at], &short[at + 1..]);
    let target = target.split(':').next().unwrap_or_default();
    // The part in front may have options behind it where it is the target that is not known.
    (is_told(target, unknown) && !is_told(source, unknown)).then_some((source, target))
}

/// Source and target of a `--mount` whose source alone is not known.
fn known_field<'w>(mount: &'w str, unknown: &str) -> Option<(&'w str, &'w str)> {
    let of = |names: &[&str]| {
        mount
            .split(',')
            .find_map(|field| field.split_once('=').filter(|(key, _)| names.contains(key)))
            .map(|(_, value)| value)
    };
    let (source, target) = (of(&["source", "src"])?, of(&["target", "destination", "dst"])?);
    let rest = mount.split(',').filter(|field| !field.ends_with(source));
    let told = |text: &str| is_told(text, unknown);
    (!told(source) && told(target) && rest.into_iter().all(told)).then_some((source, target))
}
