//! From text to nodes: anchors, merge keys and repeated keys are settled here.

use std::collections::BTreeMap;
use std::ops::Range;

use saphyr_parser::{Event, Parser, ScalarStyle, Span};

use super::node::{Mark, Node, Value};
use super::syntax::SyntaxError;
use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;

/// Deepest nesting that is read.
const DEEPEST: usize = 100;
/// Most nodes that aliases may add, so that a few lines cannot grow without bound.
const MOST_ALIASED: usize = 200_000;

/// The mark that a document begins, with what follows on the same line.
const BEGIN: &str = "--- ";

/// The documents of a YAML stream; empty ones are left out.
///
/// A syntax error ends the reading and is reported in `diagnostics`; the documents before it are returned.
pub fn parse(source: &SourceText, diagnostics: &mut Diagnostics) -> Vec<Node> {
    // The parser holds a bracket that may begin a key, with all that is in it, until it is closed: for JSON that is the whole
    // text. Behind a document's beginning there are no such keys.
    let json = source.text.trim_start().starts_with(['{', '[']);
    let begin = if json { BEGIN } else { "" };
    let marked = json.then(|| [begin, &source.text].concat());
    let mut reader = Reader {
        events: Parser::new_from_str(marked.as_deref().unwrap_or(&source.text)),
        offsets: Offsets::new(&source.text, begin.len()),
        source,
        diagnostics,
        anchors: BTreeMap::new(),
        aliased: 0,
    };
    let mut documents = Vec::new();
    loop {
        match reader.next() {
            Ok(Some((Event::StreamEnd, _)) | None) => return documents,
            Ok(Some((Event::DocumentStart(_), _))) => match reader.document() {
                Ok(node) if node.is_nothing() => {}
                Ok(node) => documents.push(node),
                Err(Stop) => return documents,
            },
            Ok(Some(_)) => {}
            Err(Stop) => return documents,
        }
    }
}

/// The tags that the Compose specification defines; others say nothing here.
fn mark(tag: Option<&saphyr_parser::Tag>) -> Mark {
    match tag {
        Some(tag) if tag.handle == "!" && tag.suffix == "reset" => Mark::Reset,
        Some(tag) if tag.handle == "!" && tag.suffix == "override" => Mark::Override,
        Some(_) | None => Mark::None,
    }
}

/// The error has been reported.
struct Stop;

struct Reader<'a> {
    events: Parser<'a, saphyr_parser::StrInput<'a>>,
    offsets: Offsets,
    source: &'a SourceText,
    diagnostics: &'a mut Diagnostics,
    anchors: BTreeMap<usize, Node>,
    aliased: usize,
}

impl<'a> Reader<'a> {
    fn next(&mut self) -> Result<Option<(Event<'a>, Range<usize>)>, Stop> {
        match self.events.next() {
            None => Ok(None),
            Some(Ok((event, span))) => Ok(Some((event, self.offsets.bytes(span)))),
            Some(Err(error)) => {
                let at = self.offsets.byte(error.marker().index());
                self.syntax(at, error.info());
                Err(Stop)
            }
        }
    }

    fn document(&mut self) -> Result<Node, Stop> {
        self.anchors.clear();
        match self.next()? {
            Some((event, span)) => self.node(event, span, 0),
            None => Err(Stop),
        }
    }

    fn node(&mut self, event: Event<'a>, span: Range<usize>, depth: usize) -> Result<Node, Stop> {
        if depth > DEEPEST {
            return self.refuse(&span, "more than 100 levels of nesting");
        }
        let (node, anchor) = match event {
            Event::Scalar(text, style, anchor, tag) => {
                let mark = mark(tag.as_deref());
                let tag = tag.filter(|tag| tag.is_yaml_core_schema()).map(|tag| tag.suffix.clone());
                // `!!int "256"` is a number, `!!str 256` is not; other tags do not change the text.
                let plain = match tag.as_deref() {
                    Some("str") => false,
                    Some("int" | "float" | "bool" | "null") => true,
                    _ => style == ScalarStyle::Plain,
                };
                // The parser's strings have room for hundreds of bytes, and nodes of a whole cluster are held at a time.
                let mut text = text.into_owned();
                text.shrink_to_fit();
                let node = Node::new(Value::Scalar { text, plain }, span);
                (Node { mark, ..node }, anchor)
            }
            Event::SequenceStart(anchor, tag) => {
                (Node { mark: mark(tag.as_deref()), ..self.sequence(span, depth)? }, anchor)
            }
            Event::MappingStart(anchor, tag) => {
                (Node { mark: mark(tag.as_deref()), ..self.mapping(span, depth)? }, anchor)
            }
            Event::Alias(id) => return self.alias(id, &span),
            Event::Nothing
            | Event::StreamStart
            | Event::StreamEnd
            | Event::DocumentStart(_)
            | Event::DocumentEnd
            | Event::SequenceEnd
            | Event::MappingEnd => return self.refuse(&span, "the document ends too early"),
        };
        if anchor != 0 {
            self.anchors.insert(anchor, node.clone());
        }
        Ok(node)
    }

    fn sequence(&mut self, start: Range<usize>, depth: usize) -> Result<Node, Stop> {
        let mut items = Vec::new();
        loop {
            match self.next()? {
                Some((Event::SequenceEnd, end)) => {
                    items.shrink_to_fit();
                    return Ok(Node::new(Value::Sequence(items), start.start..end.end));
                }
                Some((event, span)) => items.push(self.node(event, span, depth + 1)?),
                None => return self.refuse(&start, "the list is not finished"),
            }
        }
    }

    fn mapping(&mut self, start: Range<usize>, depth: usize) -> Result<Node, Stop> {
        let mut pairs: Vec<(Node, Node)> = Vec::new();
        let mut merged = Vec::new();
        // An alias has the place of what it stands for, which is further up.
        let mut last = None;
        loop {
            let key = match self.next()? {
                Some((Event::MappingEnd, end)) => {
                    add_merged(&mut pairs, merged);
                    pairs.shrink_to_fit();
                    return Ok(Node::new(Value::Mapping(pairs), start.start..last.unwrap_or(end.end)));
                }
                Some((event, span)) => self.node(event, span, depth + 1)?,
                None => return self.refuse(&start, "the mapping is not finished"),
            };
            let value = match self.next()? {
                Some((event, span)) => {
                    let alias = matches!(event, Event::Alias(_)).then_some(span.end);
                    let value = self.node(event, span, depth + 1)?;
                    last = Some(alias.unwrap_or(value.span.end));
                    value
                }
                None => return self.refuse(&start, "the mapping is not finished"),
            };
            if key.text() == Some("<<") {
                merged.push(value);
                continue;
            }
            match key.text().and_then(|text| pairs.iter().position(|(known, _)| known.text() == Some(text))) {
                Some(earlier) => {
                    self.repeated(&key, &pairs[earlier].0);
                    pairs[earlier] = (key, value);
                }
                None => pairs.push((key, value)),
            }
        }
    }

    fn repeated(&mut self, key: &Node, earlier: &Node) {
        let (line, _) = self.source.line_column(earlier.span.start);
        let text = key.text().unwrap_or_default();
        let message = format!("the key `{text}` appears twice; this one counts");
        let help = format!("remove it here or on line {line}");
        self.diagnostics.add(Severity::Warning, self.source, &key.span, message, Some(help));
    }

    fn alias(&mut self, id: usize, span: &Range<usize>) -> Result<Node, Stop> {
        let Some(node) = self.anchors.get(&id) else {
            return self.refuse(span, "the anchor is not finished where it is used");
        };
        let node = node.clone();
        self.aliased += count(&node);
        if self.aliased > MOST_ALIASED {
            return self.refuse(span, "the aliases of this document grow without bound");
        }
        Ok(node)
    }

    fn refuse(&mut self, span: &Range<usize>, message: &str) -> Result<Node, Stop> {
        self.diagnostics.add(Severity::Error, self.source, span, message, None);
        Err(Stop)
    }

    /// A syntax error; the parser's own words come last, what is probably meant first.
    fn syntax(&mut self, at: usize, info: &str) {
        let SyntaxError { span, message, help } = SyntaxError::new(&self.source.text, at, info);
        self.diagnostics.add(Severity::Error, self.source, &span, message, help);
    }
}

fn count(node: &Node) -> usize {
    1 + match &node.value {
        Value::Scalar { .. } => 0,
        Value::Sequence(items) => items.iter().map(count).sum(),
        Value::Mapping(pairs) => pairs.iter().map(|(key, value)| count(key) + count(value)).sum(),
    }
}

/// `<<: *base` and `<<: [*a, *b]`: keys that the mapping does not have itself, earlier sources first.
fn add_merged(pairs: &mut Vec<(Node, Node)>, merged: Vec<Node>) {
    for source in merged {
        let sources = match source.value {
            Value::Sequence(items) => items,
            Value::Mapping(_) | Value::Scalar { .. } => vec![source],
        };
        for source in sources {
            let Value::Mapping(theirs) = source.value else {
                continue;
            };
            for (key, value) in theirs {
                if !pairs.iter().any(|(known, _)| known.text() == key.text()) {
                    pairs.push((key, value));
                }
            }
        }
    }
}

/// Character offsets, which the parser counts, to byte offsets.
struct Offsets {
    /// Byte offset of each character; empty where the text is ASCII and both are the same.
    table: Vec<usize>,
    end: usize,
    /// Characters that the parser was given before the text.
    before: usize,
}

impl Offsets {
    fn new(text: &str, before: usize) -> Self {
        let table =
            if text.is_ascii() { Vec::new() } else { text.char_indices().map(|(at, _)| at).collect() };
        Self { table, end: text.len(), before }
    }

    fn byte(&self, character: usize) -> usize {
        let character = character.saturating_sub(self.before);
        if self.table.is_empty() {
            character.min(self.end)
        } else {
            self.table.get(character).copied().unwrap_or(self.end)
        }
    }

    fn bytes(&self, span: Span) -> Range<usize> {
        let start = self.byte(span.start.index());
        start..self.byte(span.end.index()).max(start)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> (Vec<Node>, Vec<(String, usize)>) {
        let source = SourceText::new("x.yaml", text);
        let mut diagnostics = Diagnostics::default();
        let nodes = parse(&source, &mut diagnostics);
        let diagnostics = diagnostics
            .iter()
            .map(|diagnostic| (diagnostic.message.clone(), source.line_column(diagnostic.span.start).0))
            .collect();
        (nodes, diagnostics)
    }

    #[test]
    fn spans_are_bytes_even_behind_wide_characters() {
        let text = "é: ü\nkey: value\n";
        let (nodes, _) = read(text);
        let span = nodes[0].get("key").unwrap().span.clone();
        assert_eq!(&text[span], "value");
    }

    #[test]
    fn a_mapping_ends_behind_its_own_last_value_even_where_that_is_an_alias() {
        let text = "base: &base { c: 1 }\nmine:\n  a: *base\nmerged:\n  a: 1\n  <<: *base\n";
        let (nodes, _) = read(text);
        let place = |key: &str| &text[nodes[0].get(key).unwrap().span.clone()];
        assert_eq!((place("mine"), place("merged")), ("a: *base", "a: 1\n  <<: *base"));
    }

    #[test]
    fn the_last_of_two_equal_keys_counts_and_is_pointed_at() {
        let (nodes, diagnostics) = read("a: 1\nb: 2\na: 3\n");
        assert_eq!(nodes[0].get("a").unwrap().text(), Some("3"));
        assert_eq!(diagnostics, [("the key `a` appears twice; this one counts".to_owned(), 3)]);
    }

    #[test]
    fn merge_keys_fill_in_what_is_missing() {
        let (nodes, _) = read("base: &b {x: 1, y: 2}\nuse: {<<: *b, x: 9}\n");
        let used = nodes[0].get("use").unwrap();
        assert_eq!((used.get("x").unwrap().text(), used.get("y").unwrap().text()), (Some("9"), Some("2")));
    }

    #[test]
    fn a_missing_colon_is_named() {
        let (_, diagnostics) = read("spec:\n  runAsUser 7101\n  runAsGroup: 7200\n");
        assert_eq!(diagnostics, [("a colon is missing after `runAsUser`".to_owned(), 2)]);
    }

    #[test]
    fn empty_documents_are_left_out() {
        let (nodes, diagnostics) = read("---\n---\na: 1\n---\n# nothing\n");
        assert_eq!((nodes.len(), diagnostics.len()), (1, 0));
    }

    #[test]
    fn growth_without_bound_is_refused() {
        let mut text = String::from("a: &a [x, x, x, x, x, x, x, x, x, x]\n");
        for (name, before) in ('b'..='i').zip('a'..) {
            text.push_str(&format!("{name}: &{name} [{}]\n", vec![format!("*{before}"); 10].join(", ")));
        }
        assert!(read(&text).1[0].0.contains("without bound"));
        assert!(!read(&"[".repeat(500)).1.is_empty());
    }
}
