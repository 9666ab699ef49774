//! What is wrong with text that is not YAML, in the words of whoever writes it: the parser says which of its rules broke.

use std::ops::Range;

/// Where it is wrong (bytes), how, and what to do.
pub(super) struct SyntaxError {
    pub span: Range<usize>,
    pub message: String,
    pub help: Option<String>,
}

impl SyntaxError {
    /// A mistake that the parser found at byte `at` of `text`, and what it says about it.
    pub(super) fn new(text: &str, at: usize, info: &str) -> Self {
        let at = at.min(text.len());
        if let Some(found) = tab(text, at, info) {
            return found;
        }
        if let Some((span, key)) = missing_colon(text, at) {
            let message = format!("a colon is missing after `{key}`");
            return Self { span, message, help: Some(format!("write `{key}: ...`")) };
        }
        let end = text[at..].chars().next().map_or(at, |c| at + c.len_utf8());
        let (message, help) = words(text, at, info);
        Self { span: at..end, message, help }
    }
}

/// The line that holds byte `at`: where it begins, and its text.
fn line(text: &str, at: usize) -> (usize, &str) {
    let start = text[..at].rfind('\n').map_or(0, |newline| newline + 1);
    (start, text[start..].lines().next().unwrap_or_default())
}

fn indentation(line: &str) -> &str {
    &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
}

/// A tab in the indentation of this line or of the next one, which the parser may not have begun.
fn tab(text: &str, at: usize, info: &str) -> Option<SyntaxError> {
    let (start, this) = line(text, at);
    let next = start + this.len() + 1;
    let next_line = text.get(next..).and_then(|rest| rest.lines().next());
    let after = next_line.filter(|_| info.contains("tab")).map(|line| (next, line));
    let (start, line) =
        [(start, this)].into_iter().chain(after).find(|(_, line)| indentation(line).contains('\t'))?;
    let column = indentation(line).find('\t')?;
    let help = "YAML is indented with blanks, not with tabs".to_owned();
    let span = start + column..start + column + 1;
    Some(SyntaxError {
        span,
        message: "not valid YAML: a tab in the indentation".to_owned(),
        help: Some(help),
    })
}

/// The message and what to do. What the parser says seldom, it says itself.
fn words(text: &str, at: usize, info: &str) -> (String, Option<String>) {
    let (start, this) = line(text, at);
    let above =
        text[..start].lines().rfind(|line| !line.trim().is_empty() && !line.trim_start().starts_with('#'));
    let depth = |line: &str| indentation(line).len();
    let deeper =
        above.filter(|above| depth(this) > depth(above) && !above.trim_end().ends_with([':', '|', '>']));
    let starred = this.trim_start_matches([' ', '-', '[']).starts_with('*');
    let (what, help) = match info {
        _ if starred => ("a `*` begins an alias", "put the text in quotes"),
        "mapping values are not allowed in this context" if deeper.is_some() => (
            "this is indented deeper than the line above, which has a value already",
            "indent it like its siblings",
        ),
        "mapping values are not allowed in this context" => {
            ("a second `: ` in one line", "put the text that holds it in quotes, or begin a new line")
        }
        "while parsing a block collection, did not find expected '-' indicator"
        | "while parsing a block mapping, did not find expected key"
        | "invalid indentation"
        | "while parsing a node, did not find expected node content" => {
            ("the indentation is that of nothing above", "indent it like its siblings")
        }
        "while parsing a flow mapping, did not find expected ',' or '}'" => {
            ("a `,` or a `}` is missing before this", "close the `{`, or put a comma between its parts")
        }
        "while parsing a flow sequence, expected ',' or ']'" => {
            ("a `,` or a `]` is missing before this", "close the `[`, or put a comma between its parts")
        }
        "invalid indentation in flow construct" => {
            ("a `{` or `[` above is not closed", "close it, or indent what is in it")
        }
        "while scanning a quoted scalar, found unexpected end of stream" => {
            ("the quote that begins here is not closed", "close it in the same text")
        }
        "while parsing node, found unknown anchor" => {
            ("an alias of an anchor that is not above", "define it with `&`, or put the text in quotes")
        }
        "found unprintable character" if text.contains('\0') => {
            ("a NUL byte", "this is not text, or text in UTF-16: save it as UTF-8")
        }
        "did not find expected <document start>" => {
            ("something behind the end of the document", "begin another document with a line `---`")
        }
        "while parsing a quoted scalar, found unknown escape character" => {
            ("YAML knows no such escape", "write `\\\\` for a backslash, or use single quotes")
        }
        _ => return (format!("not valid YAML: {info}"), reserved(info)),
    };
    (format!("not valid YAML: {what}"), Some(help.to_owned()))
}

/// `@` and the backquote begin nothing.
fn reserved(info: &str) -> Option<String> {
    info.starts_with("unexpected character").then(|| "put the text in quotes".to_owned())
}

/// A line `word value` near a syntax error, where `word: value` would be valid.
fn missing_colon(text: &str, at: usize) -> Option<(Range<usize>, String)> {
    let line_start = line(text, at).0;
    // The parser stops at the line itself or at the one behind it.
    let previous = text[..line_start.saturating_sub(1)].rfind('\n').map_or(0, |newline| newline + 1);
    [line_start, previous].into_iter().find_map(|start| {
        let line = text[start..].lines().next()?;
        let body = line.trim_start().trim_start_matches("- ").trim_start();
        let offset = start + (line.len() - body.len());
        let length = body
            .bytes()
            .take_while(|byte| byte.is_ascii_alphanumeric() || *byte == b'-' || *byte == b'_')
            .count();
        let (key, rest) = body.split_at(length);
        let value = rest.trim();
        let alone =
            value.is_empty() || (rest.starts_with(' ') && !value.contains([':', '#', '"', '\'', ' ']));
        let word = key.starts_with(|c: char| c.is_ascii_alphabetic()) && alone && !body.is_empty();
        word.then(|| (offset..offset + length, key.to_owned()))
    })
}
