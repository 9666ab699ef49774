//! Splitting what a `RUN` says into commands, as far as that can be done without running a shell.

mod lexer;

use std::collections::HashSet;

use mivask_core::recipe::{Command, ShellCommand, ShellWord};

use lexer::{Lexer, Word};

/// One command of a script.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Piece {
    pub command: Command,
    /// Whether it runs whatever became of the one before.
    pub begins: bool,
    /// Whether the script goes on where it fails: before `;`, a line's end or `||`, unless `set -e` was said.
    pub may_fail: bool,
    /// The bytes of the script it is at.
    pub at: std::ops::Range<usize>,
}

/// Words that begin what only a shell can carry out.
const KEYWORDS: [&str; 17] = [
    "if", "then", "else", "elif", "fi", "for", "while", "until", "do", "done", "case", "esac", "{", "}", "!",
    "function", "select",
];

/// The value of a variable; `None` if it is unknown.
pub(super) type Values<'a> = &'a dyn Fn(&str) -> Option<String>;

/// The commands of `script`, whose lines go on behind `escape`.
pub(super) fn commands(script: &str, escape: char, values: Values<'_>) -> Vec<Piece> {
    let mut lexer = Lexer::new(script, escape, values);
    let (mut pieces, mut assigned): (Vec<Piece>, HashSet<String>) = (Vec::new(), HashSet::new());
    // Where the chain of `&&` begins that is being read, and whether its failure ends everything.
    let mut chain = 0;
    let mut strict = false;
    let mut forgiven = false;
    loop {
        lexer.skip_separators();
        let start = lexer.at;
        if start >= script.len() {
            return pieces;
        }
        if !lexer.chained {
            // Something comes behind the chain before: `set -e` minds only the failure of its last command.
            let last = pieces.len().saturating_sub(1);
            for (at, piece) in pieces.iter_mut().enumerate().skip(chain) {
                piece.may_fail |= !strict || at < last;
            }
            chain = pieces.len();
        }
        lexer.words = Vec::new();
        lexer.opaque = false;
        lexer.chained = false;
        (lexer.alternative, lexer.forgiven) = (false, false);
        lexer.outputs = Vec::new();
        lexer.expands = false;
        lexer.command(false);
        let compound = lexer.words.first().is_some_and(|word| KEYWORDS.contains(&word.text.as_str()));
        let uses = lexer.words.iter().any(|word| word.variables.iter().any(|name| assigned.contains(name)));
        let grouped = lexer.words.iter().any(|word| word.grouped);
        if compound || grouped {
            // What belongs together only a shell can tell.
            lexer.command(true);
        }
        let words = &lexer.words;
        let named = words.first().filter(|word| word.text == "export").map_or(1, |_| 2);
        for word in words.iter().take(named) {
            assigned.extend(assignment(&word.text).map(str::to_owned));
        }
        let leads = words.first().is_some_and(|word| assignment(&word.text).is_some());
        let command = if lexer.opaque || compound || uses || leads || grouped {
            let outputs = lexer.outputs.iter().map(|output| output.path.clone().into_bytes());
            Command::Opaque { names: words.iter().filter_map(Word::path).chain(outputs).collect() }
        } else if lexer.expands || !lexer.outputs.is_empty() {
            let word = |word: &Word| ShellWord { text: word.text.clone(), pattern: word.pattern.is_some() };
            let words = words.iter().map(word).collect();
            Command::Shell(ShellCommand { words, outputs: lexer.outputs.clone() })
        } else {
            Command::Plain(words.iter().map(|word| word.text.clone()).collect())
        };
        let end = start + script[start..lexer.at].trim_end_matches([' ', '\n', '\t', '\r', '&', ';']).len();
        let sets = words.first().is_some_and(|word| word.text == "set");
        strict |= sets && words.iter().any(|word| word.text.starts_with('-') && word.text.contains('e'));
        if lexer.alternative {
            pieces[chain..].iter_mut().for_each(|piece| piece.may_fail = true);
        }
        if !words.is_empty() || !lexer.outputs.is_empty() {
            let begins = pieces.len() == chain || std::mem::take(&mut forgiven);
            forgiven = lexer.forgiven;
            pieces.push(Piece { command, begins, may_fail: lexer.alternative, at: start..end });
        }
    }
}

/// The words of one line without operators: those of `ENV`, `ARG` and the like.
pub(crate) fn words(line: &str, escape: char, values: Values<'_>) -> Vec<String> {
    let mut lexer = Lexer::new(line, escape, values);
    while lexer.at < line.len() {
        let before = lexer.at;
        lexer.command(true);
        if lexer.at == before {
            break;
        }
    }
    lexer.words.into_iter().map(|word| word.text).collect()
}

/// The variable that a word sets.
fn assignment(word: &str) -> Option<&str> {
    let (name, _) = word.split_once('=')?;
    let plain = name.chars().all(|c| c == '_' || c.is_ascii_alphanumeric());
    (plain && name.starts_with(|c: char| c == '_' || c.is_ascii_alphabetic())).then_some(name)
}

#[cfg(test)]
mod tests {
    use mivask_core::recipe::Output;

    use super::*;

    fn plain(words: &[&str]) -> Command {
        Command::Plain(words.iter().map(|word| (*word).to_owned()).collect())
    }

    fn opaque(names: &[&str]) -> Command {
        Command::Opaque { names: names.iter().map(|name| name.as_bytes().to_vec()).collect() }
    }

    /// Words, those with patterns behind a question mark, and files that output goes to.
    fn shell(words: &[&str], outputs: &[&str]) -> Command {
        let word = |word: &&str| match word.strip_prefix('?') {
            Some(text) => ShellWord { text: text.to_owned(), pattern: true },
            None => ShellWord { text: (*word).to_owned(), pattern: false },
        };
        let output = |output: &&str| {
            let appends = output.starts_with(">>");
            Output { path: output.trim_start_matches('>').to_owned(), appends }
        };
        Command::Shell(ShellCommand {
            words: words.iter().map(word).collect(),
            outputs: outputs.iter().map(output).collect(),
        })
    }

    macro_rules! scripts {
        ($($name:ident: $script:expr => [$($command:expr),*];)+) => {$(
            #[test]
            fn $name() {
                let values = |name: &str| match name {
                    "DIR" => Some("/data".to_owned()),
                    "SPLIT" => Some("a b".to_owned()),
                    _ => None,
                };
                let found: Vec<Command> =
                    commands($script, '\\', &values).into_iter().map(|piece| piece.command).collect();
                let expected: Vec<Command> = vec![$($command),*];
                assert_eq!(found, expected);
            }
        )+};
    }

    scripts! {
        joined_commands: "mkdir -p /data && chown 405:405 /data" =>
            [plain(&["mkdir", "-p", "/data"]), plain(&["chown", "405:405", "/data"])];
        lines_go_on_and_comments_vanish: "mkdir /a \\\n  # a comment\n  /b && \\\n touch /c" =>
            [plain(&["mkdir", "/a", "/b"]), plain(&["touch", "/c"])];
        lines_and_semicolons_end_a_command: "set -eu; mkdir /a\ntouch /b # why" =>
            [plain(&["set", "-eu"]), plain(&["mkdir", "/a"]), plain(&["touch", "/b"])];
        quotes: "mkdir '/a b' \"/c $DIR\" /d\\ e" => [plain(&["mkdir", "/a b", "/c /data", "/d e"])];
        variables: "mkdir $DIR/x ${DIR}y ${NONE:-/z}" => [plain(&["mkdir", "/data/x", "/datay", "/z"])];
        an_unknown_variable_is_for_a_shell: "mkdir /a/$NONE" => [opaque(&["/a"])];
        a_value_of_several_words_too: "mkdir $SPLIT" => [opaque(&[])];
        a_variable_that_the_script_sets: "DIR=/x; mkdir $DIR" => [opaque(&["/x"]), opaque(&["/data"])];
        pipes_and_redirections_name_paths: "cat /a | tee /b >/c && mkdir /d" =>
            [opaque(&["/a", "/b", "/c"]), plain(&["mkdir", "/d"])];
        braces_name_the_directory: "rm -rf /var/lib/apt/lists/* /x/{a,b}" => [opaque(&["/var/lib/apt/lists", "/x"])];
        patterns_are_kept: "rm -rf /var/lib/apt/lists/* '/x/*'" =>
            [shell(&["rm", "-rf", "?/var/lib/apt/lists/*", "/x/*"], &[])];
        output_goes_to_files: "echo hi > /a 2>/dev/null; cat </b >>/c 2>&1 && :>/d" =>
            [shell(&["echo", "hi"], &[">/a", ">/dev/null"]), shell(&["cat"], &[">>/c"]), shell(&[":"], &[">/d"])];
        a_text_is_no_command: "cat <<EOF > /a\nmkdir /no\nEOF\ncat > /b <<-'END' && mkdir /yes\n\tmkdir /no\n\tEND\ntouch /c" =>
            [shell(&["cat"], &[">/a"]), shell(&["cat"], &[">/b"]), plain(&["mkdir", "/yes"]), plain(&["touch", "/c"])];
        a_text_that_is_elsewhere: "cat <<EOF > /a\nmkdir /b" => [shell(&["cat"], &[">/a"]), plain(&["mkdir", "/b"])];
        a_number_apart_is_a_word: "echo 2 >/a" => [shell(&["echo", "2"], &[">/a"])];
        forgiven_by_true: "mkdir /a || true; touch /b || : && cd /c" =>
            [plain(&["mkdir", "/a"]), plain(&["touch", "/b"]), plain(&["cd", "/c"])];
        an_alternative_is_no_plain_command: "mkdir /a || mkdir /c; touch /b" => [opaque(&["/a", "/c"]), plain(&["touch", "/b"])];
        compound_commands_swallow_the_rest: "mkdir /a && if true; then touch /b; fi; touch /c" =>
            [plain(&["mkdir", "/a"]), opaque(&["/b", "/c"])];
        groups_too: "(cd /a; touch b) && mkdir /c" => [opaque(&["/a", "/c"])];
        command_substitution: "chown $(id -u) /a" => [opaque(&["/a"])];
        open_quotes_end_with_the_text: "mkdir '/a" => [plain(&["mkdir", "/a"])];
        options_with_paths: "tool --prefix=/opt/x" => [plain(&["tool", "--prefix=/opt/x"])];
        nothing: " \n # only\n" => [];
    }

    /// `+` where a failure ends the build, `?` where it does not; `|` before what runs in any case.
    fn forgiven(script: &str) -> String {
        let pieces = commands(script, '\\', &|_| None);
        let one = |piece: &Piece| {
            format!("{}{}", if piece.begins { "|" } else { "" }, if piece.may_fail { "?" } else { "+" })
        };
        pieces.iter().map(one).collect()
    }

    #[test]
    fn a_failure_is_forgiven_where_a_shell_forgives_it() {
        for (script, expected) in [
            ("a && b && c", "|+++"),
            ("a; b", "|?|+"),
            ("a && b; c && d\ne", "|??|??|+"),
            ("set -eux; a; b && c", "|+|+|++"),
            ("set -e; a && b; c", "|+|?+|+"),
            ("set -x; a; b", "|?|?|+"),
            ("a && b || c", "|??"),
            ("a || true; b", "|?|+"),
            ("a || true && b", "|?|+"),
        ] {
            assert_eq!(forgiven(script), expected, "{script}");
        }
    }

    #[test]
    fn nothing_panics_and_everything_ends() {
        let mut random = fastrand::Rng::with_seed(7);
        let alphabet: Vec<char> = "a/ \\\n'\"$({})`&|;<>#*~=é".chars().collect();
        for _ in 0..20_000 {
            let text: String = (0..random.usize(..24)).map(|_| *random.choice(&alphabet).unwrap()).collect();
            commands(&text, '\\', &|_| None);
            words(&text, '`', &|_| Some("v".to_owned()));
        }
    }
}
