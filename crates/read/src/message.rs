//! A line of a log that says what was refused, such as `open /data/x: permission denied`, read as an act.

use mivask_core::outcome::Errno;

/// How programs and their libraries say an error (strerror(3)).
const WORDS: [(&str, Errno); 11] = [
    ("permission denied", Errno::EACCES),
    ("read-only file system", Errno::EROFS),
    ("operation not permitted", Errno::EPERM),
    ("no such file or directory", Errno::ENOENT),
    ("file exists", Errno::EEXIST),
    ("not a directory", Errno::ENOTDIR),
    ("is a directory", Errno::EISDIR),
    ("directory not empty", Errno::ENOTEMPTY),
    ("device or resource busy", Errno::EBUSY),
    ("cross-device link", Errno::EXDEV),
    ("text file busy", Errno::EBUSY),
];

/// What programs call an act, and what it may have been, the likeliest first.
const ACTS: [(&[&str], &[&str]); 7] = [
    (&["mkdir", "create directory", "creating directory"], &["makes-directory"]),
    (&["rmdir"], &["removes-directory"]),
    (&["unlink", "rm:", "remove"], &["deletes", "removes-directory"]),
    (&["exec", "execute", "spawn"], &["runs"]),
    (&["opendir", "scandir", "readdir", "listdir", "ls:", "open directory"], &["lists"]),
    (&["touch", "create", "mktemp"], &["creates", "writes"]),
    (&["write", "append", "save"], &["writes", "creates"]),
];

/// What a message tells.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Message {
    /// The absolute path it names.
    pub path: String,
    /// The error it names.
    pub errno: Errno,
    /// What may have been done with it, as the verbs of acts, the likeliest first.
    pub verbs: &'static [&'static str],
}

/// The message that `text` is; `None` where it names no error or no absolute path.
#[must_use]
pub fn parse(text: &str) -> Option<Message> {
    // A mistyped act with an expectation names an error as well.
    if text.contains("->") || !text.contains([':', '(']) {
        return None;
    }
    let lower = text.to_ascii_lowercase();
    let by_words = WORDS.iter().filter_map(|(words, errno)| Some((lower.find(words)?, *errno))).min();
    let by_name = text.split(|letter: char| !letter.is_ascii_alphanumeric()).find_map(Errno::by_name);
    let (at, errno) = match (by_words, by_name) {
        (Some((at, errno)), _) => (at, errno),
        (None, Some(errno)) => (text.find(errno.name())?, errno),
        (None, None) => return None,
    };
    let paths = paths(text);
    // A program may name itself first, and some say the path behind the error.
    let before = paths.iter().rev().find(|(start, _)| *start < at);
    let (_, path) = before.or_else(|| paths.first())?;
    let known = ACTS.iter().find(|(words, _)| words.iter().any(|word| lower.contains(word)));
    let verbs = known.map_or(&["reads", "writes", "creates"][..], |(_, verbs)| verbs);
    Some(Message { path: path.clone(), errno, verbs })
}

/// Absolute paths in a text, with where they begin: up to a closing quote, or to what ends a word.
fn paths(text: &str) -> Vec<(usize, String)> {
    let mut all = Vec::new();
    let mut behind = ' ';
    let mut until = 0;
    for (at, letter) in text.char_indices() {
        if letter == '/' && at >= until && !behind.is_alphanumeric() && behind != '/' && behind != '.' {
            let rest = &text[at..];
            let closing = match behind {
                '\'' => Some('\''),
                '"' => Some('"'),
                '`' => Some('`'),
                '\u{2018}' => Some('\u{2019}'),
                _ => None,
            };
            let quoted = closing.and_then(|closing| rest.find(closing));
            let ends = |(place, letter): (usize, char)| {
                let next = rest[place + letter.len_utf8()..].chars().next();
                let colon = letter == ':' && next.is_none_or(char::is_whitespace);
                (colon || letter.is_whitespace() || matches!(letter, ',' | ')' | ';' | '"')).then_some(place)
            };
            let end = quoted.or_else(|| rest.char_indices().find_map(ends)).unwrap_or(rest.len());
            all.push((at, rest[..end].to_owned()));
            until = at + end;
        }
        behind = letter;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    macro_rules! messages {
        ($($name:ident: $text:literal => $errno:ident $path:literal $verb:literal;)+) => {$(
            #[test]
            fn $name() {
                let message = parse($text).unwrap_or_else(|| panic!("no message: {}", $text));
                assert_eq!((message.errno, message.path.as_str(), message.verbs[0]), (Errno::$errno, $path, $verb));
            }
        )+};
    }

    messages! {
        go: "open /var/lib/app/state.db: permission denied" => EACCES "/var/lib/app/state.db" "reads";
        go_directory: "mkdir /data/cache: read-only file system" => EROFS "/data/cache" "makes-directory";
        python: "PermissionError: [Errno 13] Permission denied: '/data/a b.csv'" => EACCES "/data/a b.csv" "reads";
        node: "Error: EACCES: permission denied, scandir '/data/in'" => EACCES "/data/in" "lists";
        node_unlink: "EPERM: operation not permitted, unlink \"/data/x\"" => EPERM "/data/x" "deletes";
        shell: "/bin/sh: 1: cannot create /out/report: Permission denied" => EACCES "/out/report" "creates";
        coreutils: "touch: cannot touch '/data/x': Read-only file system" => EROFS "/data/x" "creates";
        coreutils_in_a_locale: "mkdir: cannot create directory \u{2018}/data/x\u{2019}: Permission denied" => EACCES "/data/x" "makes-directory";
        java: "java.io.FileNotFoundException: /etc/app.conf (Permission denied)" => EACCES "/etc/app.conf" "reads";
        runtime: "exec /app/run: permission denied" => EACCES "/app/run" "runs";
        cat: "cat: /run/secrets/key: Permission denied" => EACCES "/run/secrets/key" "reads";
        a_name_alone: "EROFS: /data/x" => EROFS "/data/x" "reads";
    }

    #[test]
    fn what_is_no_message() {
        for text in [
            "",
            "gauge reads /data/x",
            "permission denied",
            "open data/x: permission denied",
            "EACCES",
            "//",
            "a/b: permission denied",
            "gauge creats /data/x -> denied EACCES",
            "gauge creats /data/x EACCES",
            "\u{2018}/",
        ] {
            assert_eq!(parse(text), None, "{text:?}");
        }
    }
}
