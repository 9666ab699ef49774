//! One command line that makes a container, as a service.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use mivask_core::fact::{Fact, Provenance, Unknown};
use mivask_core::mode::Mode;
use mivask_core::namespace::NamespaceAsked;
use mivask_core::outcome::Errno;
use mivask_core::runtime::Runtime;
use mivask_core::unmodelled::Unmodelled;

use super::made::{Made, plain, text};
use super::options::{self, Meaning};
use super::pods::Pods;
use super::words::{Word, may_be_options};
use crate::diagnostic::{Diagnostics, Severity};
use crate::nearest::nearest;
use crate::text::SourceText;

/// What is read of one command line.
pub(super) struct Run {
    pub name: String,
    pub service: Made,
    pub umask: Option<Fact<Mode>>,
    pub user_namespace: Option<Fact<NamespaceAsked>>,
    /// What would say who it is, where only a shell could tell.
    pub untold: Option<Unknown>,
    /// `--uidmap` and `--gidmap`, in the order they stand.
    pub maps: Vec<(String, Word)>,
    pub unmodelled: Vec<Unmodelled>,
    /// Where it says that an engine without root makes it.
    pub of_user: Option<Provenance>,
    /// The pod it is in, whose user namespace it has.
    pub pod: Option<String>,
    /// What is taken for granted of it.
    pub assumes: Vec<String>,
    /// `--read-only-tmpfs=false`
    pub no_scratch: bool,
    pub span: Range<usize>,
    lenders: Vec<Word>,
}

impl Run {
    /// `--volumes-from`: containers of the same script, or others.
    pub(super) fn lend(&mut self, names: &BTreeSet<String>) {
        for lender in std::mem::take(&mut self.lenders) {
            let name = lender.text.split(':').next().unwrap_or_default();
            let own = names.contains(name);
            let given = if own { lender.text.clone() } else { format!("container:{}", lender.text) };
            self.service.add("volumes_from", text(&given, &lender.span));
        }
    }
}

/// A script being read.
pub(super) struct Reading<'a> {
    pub source: &'a SourceText,
    pub diagnostics: &'a mut Diagnostics,
    /// Where relative paths begin.
    pub folder: &'a str,
    pub volumes: &'a mut Made,
    /// Pods that were made before.
    pub pods: &'a Pods,
}

/// An option, and its value where one belongs to it.
pub(super) struct Given<'w> {
    pub name: String,
    /// The word the option is in.
    pub at: &'w Word,
    pub value: Option<Word>,
    pub meaning: Meaning,
}

impl Reading<'_> {
    pub(super) fn say(&mut self, severity: Severity, word: &Word, message: &str, help: Option<String>) {
        self.diagnostics.add(severity, self.source, &word.span, message.to_owned(), help);
    }

    /// A command line behind `run`; `taken` are the names of those before, with how often each was wanted.
    pub(super) fn run(
        &mut self,
        engine: Runtime,
        words: &[Word],
        taken: &mut BTreeMap<String, usize>,
    ) -> Option<Run> {
        let (given, rest) = self.options(engine, words);
        let Some((image, command)) = rest.split_first() else {
            if let Some(last) = words.last() {
                let help = "the image follows the options: docker run [OPTIONS] IMAGE [COMMAND]".to_owned();
                self.say(Severity::Error, last, "this command line names no image", Some(help));
            }
            return None;
        };
        let named =
            given.iter().rev().find(|one| one.meaning == Meaning::Name).and_then(|one| one.value.as_ref());
        let named = named.filter(|word| word.unknown.is_none()).map(|word| word.text.clone());
        let span = image.span.clone();
        // Of two containers of one name the later takes its place; here both are shown.
        let name = named.map_or_else(|| own_name(&image.text, taken), |name| free(&name, taken));
        let base = name.rsplit_once('-').map(|(base, _)| base.to_owned());
        if let Some(count) = base.and_then(|base| taken.get_mut(&base)) {
            *count += 1;
        }
        taken.insert(name.clone(), 1);
        let mut run = Run {
            name,
            service: Made::default(),
            umask: None,
            user_namespace: None,
            of_user: None,
            pod: None,
            assumes: Vec::new(),
            untold: None,
            maps: Vec::new(),
            unmodelled: Vec::new(),
            no_scratch: false,
            span: words.first().map_or(span.start, |word| word.span.start)..span.end,
            lenders: Vec::new(),
        };
        run.service.set("image", text(&image.text, &image.span));
        run.service.set("container_name", text(&run.name, &image.span));
        if let Some(first) = command.first().filter(|word| word.unknown.is_none()) {
            run.service.add("command", text(&first.text, &first.span));
        }
        self.pod_of(&given, &mut run);
        for one in given {
            self.take(one, &mut run);
        }
        self.maps(&mut run);
        Some(run)
    }

    /// The options, and the words behind them.
    pub(super) fn options<'w>(&mut self, engine: Runtime, words: &'w [Word]) -> (Vec<Given<'w>>, &'w [Word]) {
        let mut given = Vec::new();
        let mut at = 0;
        while let Some(word) = words.get(at) {
            at += 1;
            if word.text == "--" {
                break;
            }
            if let Some(unknown) =
                word.unknown.as_ref().filter(|unknown| word.text.starts_with(unknown.as_str()))
            {
                let next = words.get(at);
                if word.is_one() || next.is_none() || !may_be_options(unknown, next) {
                    return (given, &words[at - 1..]);
                }
                self.undecided(word);
                continue;
            }
            if !word.text.starts_with('-') || word.text == "-" {
                return (given, &words[at - 1..]);
            }
            if let Some(long) = word.text.strip_prefix("--") {
                let (name, value) =
                    long.split_once('=').map_or((long, None), |(name, value)| (name, Some(value)));
                let Some(meaning) = options::meaning(name).filter(|_| name.len() > 1) else {
                    at += self.unknown(engine, name, word);
                    continue;
                };
                let value = match value {
                    Some(value) => Some(Word { text: value.to_owned(), ..word.clone() }),
                    None if meaning.takes_value(name) => {
                        at += 1;
                        words.get(at - 1).cloned()
                    }
                    None => None,
                };
                given.push(Given { name: name.to_owned(), at: word, value, meaning });
                continue;
            }
            at += self.letters(engine, word, words.get(at), &mut given);
        }
        (given, words.get(at..).unwrap_or_default())
    }

    /// Short options in one word: switches, and a last one with its value. How many further words belong to it.
    fn letters<'w>(
        &mut self,
        engine: Runtime,
        word: &'w Word,
        next: Option<&Word>,
        given: &mut Vec<Given<'w>>,
    ) -> usize {
        for (index, letter) in word.text.char_indices().skip(1) {
            let name = letter.to_string();
            let Some(meaning) = options::meaning(&name) else {
                return self.unknown(engine, &name, word);
            };
            if !meaning.takes_value(&name) {
                given.push(Given { name, at: word, value: None, meaning });
                continue;
            }
            let rest = &word.text[index + letter.len_utf8()..];
            let attached = rest.strip_prefix('=').unwrap_or(rest);
            let (value, used) = match attached {
                "" => (next.cloned(), 1),
                text => (Some(Word { text: text.to_owned(), ..word.clone() }), 0),
            };
            given.push(Given { name, at: word, value, meaning });
            return used;
        }
        0
    }

    /// Says that an option is unknown; how many further words belong to what was meant.
    fn unknown(&mut self, engine: Runtime, name: &str, word: &Word) -> usize {
        let meant = nearest(name, options::names());
        let help = match meant {
            Some(meant) => format!("did you mean `--{meant}`?"),
            None => "it is taken for a switch: write --OPTION=VALUE where it has a value".to_owned(),
        };
        let dashes = if name.chars().count() == 1 { "-" } else { "--" };
        let message = format!(
            "`{dashes}{}` is no option of {} run that is known here",
            name.escape_debug(),
            engine.word()
        );
        self.say(Severity::Warning, word, &message, Some(help));
        let takes =
            meant.is_some_and(|meant| options::meaning(meant).is_some_and(|one| one.takes_value(meant)));
        usize::from(takes && !word.text.contains('='))
    }

    /// Makes one option a part of the service.
    pub(super) fn take(&mut self, given: Given<'_>, run: &mut Run) {
        let Given { name, at, value, meaning } = given;
        match (meaning, value) {
            (Meaning::Truth(_) | Meaning::Scratch, Some(value)) if value.unknown.is_some() => {
                self.undecided(&value);
            }
            (Meaning::Truth(key), value) => {
                let set = self.is_set(&name, value.as_ref());
                run.service.set(key, plain(if set { "true" } else { "false" }, &at.span));
            }
            (Meaning::Scratch, value) => run.no_scratch = !self.is_set(&name, value.as_ref()),
            (Meaning::Switch | Meaning::Value | Meaning::Name | Meaning::Pod, _) => {}
            (Meaning::Files, _) => {
                let what = format!("`--{name}`");
                let message = format!("{what} is not modelled: it may change what is there");
                self.say(Severity::Warning, at, &message, None);
                run.unmodelled.push(Unmodelled::policy(
                    &what,
                    Errno::ENOENT,
                    self.source.place(&at.span, &name),
                ));
            }
            (_, None) => {
                let message = format!("`--{name}` has no value");
                self.say(Severity::Error, at, &message, None);
            }
            (Meaning::Ids, Some(value)) => run.maps.push((name, value)),
            (meaning, Some(value)) => match value.unknown.clone() {
                Some(unknown) => self.untold(&name, meaning, (&value, &unknown), run),
                None => self.known(&name, meaning, &value, run),
            },
        }
    }

    fn known(&mut self, name: &str, meaning: Meaning, value: &Word, run: &mut Run) {
        match meaning {
            Meaning::Text(key) => run.service.set(key, text(&value.text, &value.span)),
            Meaning::Element("volumes") => {
                let short = self.short(&value.text, value);
                run.service.add("volumes", text(&short, &value.span));
            }
            Meaning::Element("volumes_from") => run.lenders.push(value.clone()),
            Meaning::Element(key) => run.service.add(key, text(&value.text, &value.span)),
            Meaning::Mount => {
                if let Some(node) = self.mount(value) {
                    run.service.add("volumes", node);
                }
            }
            Meaning::Environment => {
                if value.text.starts_with("PATH=") {
                    run.service.add("environment", text(&value.text, &value.span));
                }
            }
            Meaning::Entrypoint => {
                // Podman takes a list in JSON as well.
                let list: Option<Vec<String>> = serde_json::from_str(&value.text).ok();
                let first = list.map_or_else(|| Some(value.text.clone()), |list| list.into_iter().next());
                run.service.set("entrypoint", text("", &value.span));
                if let Some(first) = first.filter(|first| !first.is_empty()) {
                    run.service.add("entrypoint", text(&first, &value.span));
                }
            }
            Meaning::Umask => match u16::from_str_radix(&value.text, 8) {
                Ok(bits) if bits <= 0o777 => {
                    run.umask = Some(Fact::new(Mode::new(bits), self.source.place(&value.span, name)));
                }
                _ => {
                    let message = format!("`{}` is no octal umask", value.text.escape_debug());
                    self.say(Severity::Error, value, &message, Some("write it as 0027".to_owned()));
                }
            },
            Meaning::Truth(_)
            | Meaning::Scratch
            | Meaning::Switch
            | Meaning::Value
            | Meaning::Name
            | Meaning::Pod
            | Meaning::Files
            | Meaning::Ids => {}
        }
    }

    /// The short form of a volume, with a path that does not depend on a working directory, or a volume that is declared.
    fn short(&mut self, given: &str, word: &Word) -> String {
        let Some((source, rest)) = given.split_once(':') else { return given.to_owned() };
        if source.starts_with(['/', '.', '~']) {
            return format!("{}:{rest}", self.absolute(source));
        }
        // An empty one is no volume, which those who read the service say.
        if !source.is_empty() {
            self.declare(source, word);
        }
        given.to_owned()
    }

    /// Whether a switch is on: it is where no value follows, and engines take no other words (Go's `strconv.ParseBool`).
    fn is_set(&mut self, name: &str, value: Option<&Word>) -> bool {
        let Some(value) = value else { return true };
        let (on, off) = (["true", "1", "t", "T", "TRUE", "True"], ["false", "0", "f", "F", "FALSE", "False"]);
        let set = on.contains(&value.text.as_str());
        if !set && !off.contains(&value.text.as_str()) {
            let message = format!("`--{name}` is true or false, not `{}`", value.text.escape_debug());
            self.say(Severity::Error, value, &message, None);
        }
        set
    }

    /// An engine makes a volume that it does not know.
    pub(super) fn declare(&mut self, name: &str, word: &Word) {
        if !self.volumes.has(name) {
            let mut volume = Made::default();
            volume.set("name", text(name, &word.span));
            self.volumes.set(name, volume.node(word.span.clone()));
        }
    }

    /// A path from the folder of the script, where it says no more.
    pub(super) fn absolute(&self, path: &str) -> String {
        let path = path.strip_prefix("./").unwrap_or(path);
        match path {
            "." => self.folder.to_owned(),
            path if path.starts_with(['/', '~']) => path.to_owned(),
            path => format!("{}/{path}", self.folder.trim_end_matches('/')),
        }
    }
}

/// A name for a container that has none: the last part of its image's.
fn own_name(image: &str, taken: &BTreeMap<String, usize>) -> String {
    let last = image.rsplit('/').next().unwrap_or(image);
    let plain: String = last
        .split(['@', ':'])
        .next()
        .unwrap_or_default()
        .chars()
        .filter(|letter| letter.is_ascii_alphanumeric() || "_.-".contains(*letter))
        .collect();
    if plain.is_empty() { free("container", taken) } else { free(&plain, taken) }
}

/// `wanted`, with a number behind it where it is taken.
fn free(wanted: &str, taken: &BTreeMap<String, usize>) -> String {
    let Some(count) = taken.get(wanted) else { return wanted.to_owned() };
    let numbered = (count + 1..).map(|number| format!("{wanted}-{number}"));
    numbered.into_iter().find(|name| !taken.contains_key(name)).unwrap_or_else(|| wanted.to_owned())
}
