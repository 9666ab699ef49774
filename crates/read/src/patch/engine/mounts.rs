//! `--volume`, `--mount` and `--tmpfs` with other options, or with a part of what they mounted.

use mivask_core::runtime::Runtime;

use super::super::document::rest_below;
use super::super::{PatchError, no_field};
use super::{Given, Options};

/// Options that exclude one another.
const OPPOSITES: [[&str; 2]; 5] =
    [["ro", "rw"], ["z", "Z"], ["noexec", "exec"], ["nosuid", "suid"], ["nodev", "dev"]];
/// What Podman takes behind the target of a `--volume`, beside `ro` and `rw`; Docker takes none of them (docker-run(1)).
const OF_PODMAN: [&str; 8] = ["U", "idmap", "noexec", "exec", "nosuid", "suid", "nodev", "dev"];

/// The mount at `at` with these options, each in the place of its opposite.
pub(super) fn remount(options: &mut dyn Options, at: &[u8], asked: &[String]) -> Result<(), PatchError> {
    let at = trimmed(plain(at)?);
    let tmpfs = |given: &Given| {
        let target = given.text.split(':').next().unwrap_or_default();
        (trimmed(target) == at).then_some(target.len())
    };
    for given in options.values("tmpfs") {
        let Some(target) = tmpfs(&given) else { continue };
        if let Some(other) = asked.iter().find(|one| ["U", "idmap", "z", "Z"].contains(&one.as_str())) {
            return Err(no_field(&format!(
                "`--tmpfs` takes no option `{other}`: `mode=`, `uid=` and `gid=` say whose it is"
            )));
        }
        let tail = given.text[target..].to_owned();
        return end_with(options, &given, &tail, &options_with(&tail, asked));
    }
    for given in options.values("volume") {
        let Some(tail) = tail(&given.text, at) else { continue };
        if let Some(other) = asked.iter().find(|one| !takes(options.engine(), one)) {
            return Err(no_option(options.engine(), other));
        }
        let (tail, target) = (tail.to_owned(), tail[1..].find(':').map_or(tail.len(), |end| end + 1));
        return end_with(
            options,
            &given,
            &tail,
            &format!("{}{}", &tail[..target], options_with(&tail[target..], asked)),
        );
    }
    for given in options.values("mount") {
        let fields: Vec<&str> = given.raw.split(',').collect();
        let target = fields.iter().find_map(|field| field.split_once('=').filter(|(key, _)| is_target(key)));
        if target.is_some_and(|(_, target)| trimmed(target) == at) {
            let new = fields_with(&fields, asked, options.engine())?;
            return options.replace(given.at, &new);
        }
    }
    Err(no_field("none of its own mounts is there: add an option for one, with the options that it needs"))
}

/// The mount above `part` is of that part alone.
pub(super) fn only(options: &mut dyn Options, part: &[u8]) -> Result<(), PatchError> {
    let part = plain(part)?;
    let above = options.values("volume").into_iter().filter_map(|given| {
        let (target, tail) = target(&given.text)?;
        let found = (target.len(), rest_below(target, part.as_bytes())?, tail.to_owned());
        Some((found, given))
    });
    let Some(((length, rest, tail), given)) = above.max_by_key(|((length, ..), _)| *length) else {
        return Err(no_field("no `--volume` of its own is mounted above that path: mount that part by hand"));
    };
    let source = given.text.strip_suffix(tail.as_str()).unwrap_or_default();
    if !source.starts_with(['/', '.', '~', '$', '%']) {
        return Err(no_field(
            "`--volume` mounts the whole of a volume: use `--mount type=volume,...` with its subpath where the engine has that (Docker 26, Podman 5.4)",
        ));
    }
    let options_of_it = &tail[1 + length..];
    let raw = given.raw.strip_suffix(tail.as_str()).ok_or(PatchError::Layout)?;
    options.replace(given.at, &format!("{}/{rest}:{part}{options_of_it}", raw.trim_end_matches('/')))
}

/// A path that stands in a script as it is.
pub(super) fn plain(path: &[u8]) -> Result<&str, PatchError> {
    let text = std::str::from_utf8(path).map_err(|_| PatchError::Layout)?;
    let plain = |letter: char| letter.is_ascii_alphanumeric() || "/._-+@".contains(letter);
    if text.chars().all(plain) { Ok(text) } else { Err(PatchError::Layout) }
}

fn trimmed(path: &str) -> &str {
    if path.len() > 1 { path.trim_end_matches('/') } else { path }
}

/// `:TARGET[:OPTIONS]` at the end of a volume that is mounted at `at`.
fn tail<'a>(text: &'a str, at: &str) -> Option<&'a str> {
    let (target, tail) = target(text)?;
    (trimmed(target) == at).then_some(tail)
}

/// The target of a volume that has a source, and all from the colon in front of it. What only a shell could tell may
/// have colons, so it is read from its end.
fn target(text: &str) -> Option<(&str, &str)> {
    let (front, last) = text.rsplit_once(':')?;
    if last.starts_with('/') {
        return Some((last, &text[front.len()..]));
    }
    let (front, target) = front.rsplit_once(':')?;
    target.starts_with('/').then(|| (target, &text[front.len()..]))
}

/// The raw text of a value with another end; where that is not at its end, it is not edited.
fn end_with(options: &mut dyn Options, given: &Given, old: &str, new: &str) -> Result<(), PatchError> {
    let front = given.raw.strip_suffix(old).ok_or(PatchError::Layout)?;
    options.replace(given.at, &format!("{front}{new}"))
}

/// `:OPTIONS` with those asked for, each in the place of its opposite or of another value.
pub(in crate::patch) fn options_with(given: &str, asked: &[String]) -> String {
    let mut words: Vec<&str> =
        given.trim_start_matches(':').split(',').filter(|word| !word.is_empty()).collect();
    for one in asked {
        words.retain(|word| !excludes(word, one));
        // What is writable says nothing of it.
        if one != "rw" {
            words.push(one);
        }
    }
    if words.is_empty() { String::new() } else { format!(":{}", words.join(",")) }
}

/// Whether of two options there is one.
fn excludes(one: &str, other: &str) -> bool {
    let key = |option: &str| option.split_once('=').map(|(key, _)| key.to_owned());
    one == other
        || OPPOSITES.iter().any(|pair| pair.contains(&one) && pair.contains(&other))
        || key(one).is_some_and(|of_one| Some(of_one) == key(other))
}

/// Whether a volume of that engine takes the option.
fn takes(engine: Runtime, option: &str) -> bool {
    let of_all = ["ro", "rw", "z", "Z"].contains(&option);
    of_all || engine == Runtime::Podman && OF_PODMAN.contains(&option)
}

fn no_option(engine: Runtime, option: &str) -> PatchError {
    no_field(&format!(
        "a volume of {} run takes no option `{option}`: mount options belong to the volume (driver_opts)",
        engine.word()
    ))
}

fn is_target(key: &str) -> bool {
    ["target", "destination", "dst"].contains(&key)
}

/// The fields of `--mount` with the options asked for.
fn fields_with(fields: &[&str], asked: &[String], engine: Runtime) -> Result<String, PatchError> {
    let mut fields: Vec<String> = fields.iter().map(|field| (*field).to_owned()).collect();
    let key = |field: &str| field.split('=').next().unwrap_or_default().to_owned();
    for one in asked {
        let (of_it, new): (&[&str], &str) = match one.as_str() {
            "ro" => (&["readonly", "ro", "rw"], "readonly"),
            "rw" => (&["readonly", "ro", "rw"], ""),
            "U" if engine == Runtime::Podman => (&["U", "chown"], "U=true"),
            "idmap" if engine == Runtime::Podman => (&["idmap"], "idmap"),
            "z" if engine == Runtime::Podman => (&["relabel", "z"], "relabel=shared"),
            "Z" if engine == Runtime::Podman => (&["relabel", "z"], "relabel=private"),
            other => return Err(no_option(engine, other)),
        };
        fields.retain(|field| !of_it.contains(&key(field).as_str()));
        if !new.is_empty() {
            fields.push(new.to_owned());
        }
    }
    Ok(fields.join(","))
}
