//! What may follow at the cursor.

use mivask_core::act::{Verb, quoted};
use mivask_core::mode::FileKind;
use mivask_core::question::entries;
use mivask_core::stage::Stage;

/// What is typed at the prompt instead of a sentence.
pub(crate) const COMMANDS: [(&str, &str); 7] = [
    ("as", "`as NAME`: who acts in lines that begin with a verb"),
    ("why", "every check of the last act, or of `why ACT`, which is not done"),
    ("undo", "takes the last line back, or the last N of them"),
    ("list", "the directories that changed, or everything in `list DIRECTORY`"),
    ("list-host", "the same with owners as stored"),
    ("help", "what can be typed"),
    ("quit", "ends the rehearsal"),
];

/// Words that change the scene and are not acts.
const CHANGES: [&str; 9] =
    ["becomes", "umask", "drops", "adds", "joins", "parts", "filesystem-group", "mounts", "renumbers"];

/// The words that fit at `cursor` of `line`, and where the word they replace begins; `current` acts where nobody is named.
pub(crate) fn complete(stage: &Stage, current: &str, line: &str, cursor: usize) -> (usize, Vec<String>) {
    let typed = line.get(..cursor).unwrap_or(line);
    let start = typed.rfind(char::is_whitespace).map_or(0, |at| at + 1);
    let (before, word) = typed.split_at(start);
    let names = || stage.actor_names().names().iter().map(|name| quoted(name.as_bytes()));
    let mut words = before.split_whitespace();
    let found = match (words.next(), words.next()) {
        (None, _) => {
            let verbs = Verb::ALL.iter().map(|verb| verb.word().to_owned()).filter(|_| !current.is_empty());
            names().chain(COMMANDS.map(|(command, _)| command.to_owned())).chain(verbs).collect()
        }
        (Some("list" | "list-host"), None) if word.starts_with('/') => paths(stage, current, word),
        (Some("as" | "why"), None) => names().collect(),
        (Some(first), _) if Verb::by_word(first).is_some() && word.starts_with('/') => {
            paths(stage, current, word)
        }
        (Some(_), None) => {
            let verbs = Verb::ALL.iter().map(Verb::word);
            verbs.chain(CHANGES).map(ToOwned::to_owned).collect()
        }
        (Some(actor), Some(_)) if word.starts_with('/') => paths(stage, actor, word),
        (Some(_), Some(_)) => ["on", "to", "at", "with", "mode", "->"].map(ToOwned::to_owned).into(),
    };
    let mut found: Vec<String> = found.into_iter().filter(|text| text.starts_with(word)).collect();
    found.sort();
    (start, found)
}

/// Names below the directory that `word` has so far; a directory's name ends with a slash, so that typing goes on.
fn paths(stage: &Stage, actor: &str, word: &str) -> Vec<String> {
    let Ok(actor) = stage.actor(actor) else { return Vec::new() };
    let end = word.rfind('/').unwrap_or(0);
    let directory = if end == 0 { "/" } else { &word[..end] };
    let all = entries(stage, actor, directory.as_bytes()).into_iter();
    all.filter_map(|(name, kind)| {
        let path = [&word.as_bytes()[..=end], &name].concat();
        let mut text = quoted(&path);
        // What needs quotes is not completed: the quote would end up in the middle of the word.
        if text.starts_with('"') {
            return None;
        }
        if kind == FileKind::Directory {
            text.push('/');
        }
        Some(text)
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_core::fact::Provenance;
    use mivask_core::prepare::stage_with_host;
    use mivask_core::scene::{Host, Scene};
    use mivask_core::tree::{Entry, Tree};
    use std::sync::Arc;

    fn stage() -> Stage {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test"));
        let add = |tree: &mut Tree, name: &[u8], entry| tree.add(Tree::ROOT, name, entry);
        add(&mut tree, b"srv", Entry::directory(0, 0, 0o755)).ok();
        add(&mut tree, b"swap", Entry::file(0, 0, 0o600)).ok();
        add(&mut tree, b"s p", Entry::file(0, 0, 0o600)).ok();
        let host = Host { tree: Some(Arc::new(tree)), ..Host::default() };
        stage_with_host(&Scene { host, ..Scene::default() })
    }

    #[test]
    fn actors_verbs_and_paths_are_completed() {
        let stage = stage();
        let at_end = |line: &str| complete(&stage, "", line, line.len());
        assert_eq!(at_end("ho"), (0, vec!["host".to_owned()]));
        assert_eq!(at_end("un"), (0, vec!["undo".to_owned()]));
        assert_eq!(at_end("host sets-m"), (5, vec!["sets-mode".to_owned()]));
        assert_eq!(at_end("host reads /s"), (11, vec!["/srv/".to_owned(), "/swap".to_owned()]));
        assert_eq!(at_end("host sets-mode 0600 on /sw"), (23, vec!["/swap".to_owned()]));
        assert_eq!(at_end("list /s").1, Vec::<String>::new(), "as nobody");
        assert_eq!(complete(&stage, "host", "list /s", 7).1, ["/srv/", "/swap"]);
        assert_eq!(complete(&stage, "host", "reads /sw", 9).1, ["/swap"]);
        assert_eq!(complete(&stage, "host", "rea", 3).1, ["reads", "reads-tag"]);
        assert_eq!(at_end("as h").1, ["host"]);
        assert_eq!(at_end("nobody reads /s").1, Vec::<String>::new());
        assert_eq!(complete(&stage, "", "ho reads /srv", 2), (0, vec!["host".to_owned()]));
        assert_eq!(complete(&stage, "", "é", 1).1, Vec::<String>::new(), "within a letter");
    }
}
