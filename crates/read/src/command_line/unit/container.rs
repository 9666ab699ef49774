//! A `.container` file as the command line that Podman's generator makes of it.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;

use mivask_core::runtime::Runtime;

use super::super::run::{Reading, Run};
use super::super::runs::Runs;
use super::super::words::Word;
use super::beside::Beside;
use super::keys::{self, Key, key};
use super::other;
use super::specifiers::{Name, expand};
use super::syntax::{Setting, Unit, split};
use crate::diagnostic::{Diagnostics, Severity};
use crate::nearest::nearest;
use crate::text::SourceText;
use crate::yaml::Node;

/// The section of such a file.
pub(crate) const SECTION: &str = "Container";

/// One file being read.
pub(super) struct Reader<'a> {
    pub source: &'a SourceText,
    pub unit: &'a Unit,
    pub name: &'a Name,
    pub beside: Beside<'a>,
    /// Its folder, from the root.
    pub whole: &'a str,
    /// The bytes of its first section's name.
    pub head: Range<usize>,
    pub diagnostics: &'a mut Diagnostics,
}

impl Reader<'_> {
    pub(super) fn container(&mut self, runs: &mut Runs) {
        self.unknown_keys();
        let named = |key: &str| self.unit.last(SECTION, key).is_some();
        if !named("Image") && !named("Rootfs") {
            let help = Some("write Image= below [Container]".to_owned());
            return self.diagnostics.add(
                Severity::Error,
                self.source,
                &self.head,
                "the unit names no image",
                help,
            );
        }
        let mut words = self.options();
        let build = self.volumes_and_image(runs, &mut words);
        words.extend(self.all("Exec"));
        let mut reading = Reading {
            source: self.source,
            diagnostics: self.diagnostics,
            folder: self.whole,
            volumes: &mut runs.volumes,
            pods: &BTreeMap::new(),
        };
        let mut taken = BTreeMap::new();
        let Some(mut run) = reading.run(Runtime::Podman, &words, &mut taken) else { return };
        if let Some(build) = build {
            run.service.set("build", build);
        }
        self.whose(&mut run);
        run.pod = self.last("Pod").map(|pod| pod.text);
        runs.push(Runtime::Podman, run);
    }

    fn unknown_keys(&mut self) {
        let unknown: Vec<&Setting> =
            self.unit.settings(SECTION).filter(|one| key(&one.key).is_none()).collect();
        for one in unknown {
            let help = nearest(&one.key, keys::names()).map(|meant| format!("did you mean `{meant}`?"));
            let message = format!("`{}` is no key of [Container] that is known here", one.key.escape_debug());
            self.diagnostics.add(Severity::Warning, self.source, &one.span, message, help);
        }
    }

    /// A value as one word, with what its specifiers stand for.
    fn word(&self, setting: &Setting) -> Word {
        let span = setting.span.clone();
        self.expanded(Word { text: setting.value.clone(), quoted: true, span, ..Word::default() })
    }

    fn expanded(&self, mut word: Word) -> Word {
        expand(&mut word, self.name, is_of_the_system(self.whole));
        word
    }

    /// The words of every value of a key.
    fn all(&self, name: &str) -> Vec<Word> {
        let settings = self.unit.all(SECTION, name);
        // Only the last of these is a command.
        let settings =
            if name == "Exec" { settings.into_iter().next_back().into_iter().collect() } else { settings };
        settings.into_iter().flat_map(split).map(|word| self.expanded(word)).collect()
    }

    fn last(&self, name: &str) -> Option<Word> {
        self.unit.last(SECTION, name).map(|setting| self.word(setting))
    }

    fn is_on(&self, name: &str) -> bool {
        self.last(name).is_some_and(|word| is_yes(&word.text))
    }

    /// Everything that is an option of its own.
    fn options(&mut self) -> Vec<Word> {
        let mut words = Vec::new();
        let name = self.last("ContainerName").unwrap_or_else(|| self.said(&self.name.stem.replace('@', "-")));
        words.push(option("name", &Word { text: name.text.trim_end_matches('-').to_owned(), ..name }));
        for one in keys::names() {
            match key(one) {
                Some(Key::Last("name") | Key::Own | Key::Nothing) | None => {}
                Some(Key::Last(name)) => words.extend(self.last(one).map(|word| option(name, &word))),
                Some(Key::Each(name)) => {
                    let each = self.unit.all(SECTION, one).into_iter();
                    words.extend(each.map(|setting| option(name, &self.word(setting))));
                }
                Some(Key::Words(name)) => words.extend(self.all(one).iter().map(|word| option(name, word))),
                Some(Key::Security(before)) => words.extend(self.last(one).map(|word| {
                    option("security-opt", &Word { text: format!("{before}{}", word.text), ..word })
                })),
                Some(Key::Switch(name)) => words.extend(self.last(one).map(|word| {
                    let on = is_yes(&word.text).to_string();
                    option(name, &Word { text: on, ..word })
                })),
            }
        }
        for (one, label) in [
            ("NoNewPrivileges", "no-new-privileges"),
            ("SecurityLabelDisable", "label=disable"),
            ("SecurityLabelNested", "label=nested"),
        ] {
            if self.is_on(one) {
                words.extend(self.last(one).map(|word| option("security-opt", &with(&word, label))));
            }
        }
        if self.is_on("VolatileTmp") {
            let tmpfs = |word: Word| option("tmpfs", &with(&word, "/tmp:rw,size=512M,mode=1777"));
            words.extend(self.last("VolatileTmp").map(tmpfs));
        }
        self.user(&mut words);
        self.remapped(&mut words);
        let networks = self.unit.all(SECTION, "Network");
        let joined = |text: &str| ["host", "none"].contains(&text) || text.starts_with("container:");
        words.extend(
            networks.iter().filter(|one| joined(&one.value)).map(|one| option("network", &self.word(one))),
        );
        words.extend(self.all("PodmanArgs"));
        words
    }

    /// `User=` and `Group=` are one option.
    fn user(&self, words: &mut Vec<Word>) {
        let (user, group) = (self.last("User"), self.last("Group"));
        let both = match (user, group) {
            (None, None) => return,
            (Some(user), None) => user,
            (user, Some(group)) => {
                // Without a user the generator refuses; root is what it would be.
                let (user, unknown) =
                    user.map_or_else(|| ("0".to_owned(), None), |user| (user.text, user.unknown));
                let unknown = unknown.or(group.unknown);
                Word { text: format!("{user}:{}", group.text), unknown, ..group }
            }
        };
        words.push(option("user", &both));
    }

    /// `RemapUsers=`, before there was `UserNS=`.
    fn remapped(&self, words: &mut Vec<Word>) {
        let Some(how) = self.last("RemapUsers") else { return };
        if how.text != "manual" {
            return words.push(option("userns", &how));
        }
        for (one, name) in [("RemapUid", "uidmap"), ("RemapGid", "gidmap")] {
            words.extend(self.all(one).iter().map(|word| option(name, word)));
        }
    }

    /// What it mounts, its pod's share, and its image; the build behind that.
    fn volumes_and_image(&mut self, runs: &mut Runs, words: &mut Vec<Word>) -> Option<Node> {
        if let Some(pod) = self.last("Pod").filter(|pod| pod.text.ends_with(".pod")) {
            self.no_namespace_of_its_own();
            match self.beside.unit(&pod.text) {
                Some(unit) => self.of_pod(&unit, &pod, runs, words),
                None => self.missing(&pod),
            }
        }
        for setting in self.unit.all(SECTION, "Volume") {
            let volume = self.word(setting);
            let volume = self.volume(volume, runs);
            words.push(option("volume", &volume));
        }
        for setting in self.unit.all(SECTION, "Mount") {
            let mut mount = self.word(setting);
            let fields: Vec<String> = mount.text.split(',').map(str::to_owned).collect();
            let fields = fields.into_iter().map(|field| match field.split_once('=') {
                Some((key @ ("source" | "src"), source)) => {
                    let source = Word { text: source.to_owned(), ..mount.clone() };
                    format!("{key}={}", self.source_of(&source, runs))
                }
                _ => field,
            });
            mount.text = fields.collect::<Vec<_>>().join(",");
            words.push(option("mount", &mount));
        }
        let image = self.last("Image").or_else(|| self.last("Rootfs"));
        let image = image?;
        if self.unit.last(SECTION, "Image").is_none() {
            words.push(with(&image, "--rootfs"));
        }
        let (image, build) = self.image(image);
        words.push(image);
        build
    }

    /// An image, or what an `.image` or `.build` file says of one.
    fn image(&mut self, word: Word) -> (Word, Option<Node>) {
        let section = match Path::new(&word.text).extension().and_then(|end| end.to_str()) {
            Some("image") => "Image",
            Some("build") => "Build",
            _ => return (word, None),
        };
        let Some(unit) = self.beside.unit(&word.text) else {
            self.missing(&word);
            return (word, None);
        };
        if section == "Build" {
            let (name, build) = other::build(&unit, (&word.text, &word.span), self.beside);
            return (with(&word, &name), Some(build));
        }
        let named = unit.last(section, "ImageTag").or_else(|| unit.last(section, "Image"));
        (named.map_or_else(|| word.clone(), |named| with(&word, &named.value)), None)
    }

    /// What a pod gives all of its containers.
    fn of_pod(&mut self, pod: &Unit, at: &Word, runs: &mut Runs, words: &mut Vec<Word>) {
        for setting in pod.all("Pod", "Volume") {
            let word = self.expanded(with(at, &setting.value));
            let volume = self.volume(word, runs);
            words.push(option("volume", &volume));
        }
        for (one, name) in [
            ("UserNS", "userns"),
            ("UIDMap", "uidmap"),
            ("GIDMap", "gidmap"),
            ("SubUIDMap", "subuidname"),
            ("SubGIDMap", "subgidname"),
        ] {
            words.extend(
                pod.all("Pod", one)
                    .into_iter()
                    .map(|setting| option(name, &self.expanded(with(at, &setting.value)))),
            );
        }
        let arguments = pod.all("Pod", "PodmanArgs");
        words.extend(
            arguments
                .into_iter()
                .flat_map(split)
                .filter(|word| word.text.starts_with("--userns") || word.text.starts_with("--volume"))
                .map(|word| with(at, &word.text)),
        );
    }

    /// Podman takes `--pod` and `--userns` one without the other.
    fn no_namespace_of_its_own(&mut self) {
        let keys = ["UserNS", "UIDMap", "GIDMap", "SubUIDMap", "SubGIDMap", "RemapUsers"];
        let Some(own) = keys.iter().find_map(|key| self.unit.last(SECTION, key)) else { return };
        let message = format!("`{}` and `Pod` exclude one another: the pod has the user namespace", own.key);
        let help = Some("write it into the .pod file".to_owned());
        self.diagnostics.add(Severity::Error, self.source, &own.span, message, help);
    }

    /// `SOURCE:TARGET[:OPTIONS]`, with a source as Podman gets it.
    fn volume(&mut self, word: Word, runs: &mut Runs) -> Word {
        let Some((source, rest)) = word.text.split_once(':').map(|(a, b)| (a.to_owned(), b.to_owned()))
        else {
            return word;
        };
        let source = self.source_of(&Word { text: source, ..word.clone() }, runs);
        with(&word, &format!("{source}:{rest}"))
    }

    fn source_of(&mut self, source: &Word, runs: &mut Runs) -> String {
        if !source.text.ends_with(".volume") || source.text.contains('/') {
            return source.text.clone();
        }
        let unit = self.beside.unit(&source.text);
        if unit.is_none() {
            self.missing(source);
        }
        let (name, volume) = other::volume(unit.as_ref(), &source.text, &source.span);
        runs.volumes.set(&name, volume);
        name
    }

    fn missing(&mut self, word: &Word) {
        let shown = word.text.escape_debug();
        let message = format!("`{shown}` is not beside it: the generator makes no service then");
        let help = Some(format!("put {shown} into the folder of the unit"));
        self.diagnostics.add(Severity::Warning, self.source, &word.span, message, help);
    }

    /// A word where nothing of the file is.
    fn said(&self, text: &str) -> Word {
        Word { text: text.to_owned(), quoted: true, span: self.head.clone(), ..Word::default() }
    }

    /// A user's own units are started by a Podman without root.
    fn whose(&mut self, run: &mut Run) {
        if is_of_a_user(self.whole) {
            run.of_user = Some(self.source.place(&self.head, SECTION));
        }
    }
}

/// Whether units in that folder are started by users (podman-systemd.unit(5), search path).
fn is_of_a_user(folder: &str) -> bool {
    let inside = format!("{folder}/");
    ["/.config/containers/systemd/", "/containers/systemd/users/"].iter().any(|part| inside.contains(part))
}

/// Whether the system's own manager starts them. Of a unit that lies anywhere else nobody knows.
fn is_of_the_system(folder: &str) -> bool {
    let inside = format!("{folder}/");
    let paths = ["/etc/containers/systemd/", "/usr/share/containers/systemd/", "/run/containers/systemd/"];
    !is_of_a_user(folder) && paths.iter().any(|part| inside.contains(part))
}

fn is_yes(text: &str) -> bool {
    ["1", "yes", "y", "true", "t", "on"].contains(&text.to_ascii_lowercase().as_str())
}

/// Another text at the same place.
fn with(word: &Word, text: &str) -> Word {
    Word { text: text.to_owned(), ..word.clone() }
}

/// `--NAME=VALUE`.
fn option(name: &str, value: &Word) -> Word {
    Word { text: format!("--{name}={}", value.text), ..value.clone() }
}
