//! `podman pod create`: pods that a script makes (podman-pod-create(1)).

use std::collections::BTreeMap;

use mivask_core::runtime::Runtime;

use super::words::Word;
use super::{Command, engine, options};

/// Options of every pod that was made so far.
pub(super) type Pods = BTreeMap<String, Vec<Word>>;

/// Options of a pod that its containers have.
const GIVEN: [&str; 8] =
    ["userns", "uidmap", "gidmap", "subuidname", "subgidname", "volume", "v", "volumes-from"];

/// Options of a pod that take no value; all others take one.
const SWITCHES: [&str; 8] =
    ["infra", "replace", "no-hosts", "no-hostname", "share-parent", "help", "h", "tls-verify"];

/// The words of a command that makes a pod, behind `pod create`.
pub(super) fn pod(command: &Command) -> Option<&[Word]> {
    match engine(command)? {
        (Runtime::Podman, [first, second, rest @ ..]) if first.text == "pod" && second.text == "create" => {
            Some(rest)
        }
        _ => None,
    }
}

/// Its name and what it gives; `None` where it has no name that a script could use.
pub(super) fn made(words: &[Word]) -> Option<(String, Vec<Word>)> {
    let mut given = Vec::new();
    let mut name = None;
    let mut at = 0;
    while let Some(word) = words.get(at) {
        at += 1;
        let Some(option) = word.text.strip_prefix('-') else {
            name = Some(word.clone());
            continue;
        };
        let option = option.trim_start_matches('-');
        let (option, value) =
            option.split_once('=').map_or((option, None), |(name, value)| (name, Some(value)));
        let value = match value {
            Some(value) => Some(Word { text: value.to_owned(), ..word.clone() }),
            None if SWITCHES.contains(&option) => None,
            None => {
                at += 1;
                words.get(at - 1).cloned()
            }
        };
        let Some(value) = value else { continue };
        if option == "name" || option == "n" {
            name = Some(value);
        } else if GIVEN.contains(&option) {
            let text = format!("--{}={}", options::long(option), value.text);
            given.push(Word { text, ..value });
        }
    }
    let name = name.filter(|name| name.unknown.is_none())?;
    Some((name.text, given))
}

#[cfg(test)]
mod tests {
    use super::super::words::{Variables, commands};
    use super::{made, pod};

    #[test]
    fn a_pod_gives_its_namespace_and_volumes() {
        for (text, name, given) in [
            ("podman pod create --name p --userns=auto --share ipc", "p", "--userns=auto"),
            (
                "podman pod create --userns keep-id -v /a:/b --infra=false p",
                "p",
                "--userns=keep-id --volume=/a:/b",
            ),
            ("podman pod create --replace --name=p --uidmap 0:1:2 --no-hosts", "p", "--uidmap=0:1:2"),
        ] {
            let all = commands(text, Variables::new());
            let (found, words) = made(pod(&all[0]).expect(text)).expect(text);
            let words: Vec<String> = words.into_iter().map(|word| word.text).collect();
            assert_eq!((found.as_str(), words.join(" ").as_str()), (name, given), "{text}");
        }
        let all = commands("podman pod create; podman pod rm p; docker pod create p", Variables::new());
        assert!(made(pod(&all[0]).unwrap()).is_none());
        assert!(pod(&all[1]).is_none() && pod(&all[2]).is_none());
    }
}
