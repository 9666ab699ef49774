//! JSON text in which nothing is left that whoever shows it would obey.

use std::io::{self, Write};

use mivask_model::glyph::is_obeyed;
use serde::Serialize;
use serde_json::Serializer;
use serde_json::ser::{CompactFormatter, Formatter, PrettyFormatter};

/// `value` on one line.
///
/// # Errors
/// Whatever `out` refuses.
pub fn compact(out: &mut dyn Write, value: &impl Serialize) -> io::Result<()> {
    Ok(value.serialize(&mut Serializer::with_formatter(out, Escaping(CompactFormatter)))?)
}

/// `value` with a line for each field.
///
/// # Errors
/// Whatever `out` refuses.
pub fn pretty(out: &mut dyn Write, value: &impl Serialize) -> io::Result<()> {
    Ok(value.serialize(&mut Serializer::with_formatter(out, Escaping(PrettyFormatter::new())))?)
}

/// `value` as text on one line.
///
/// # Errors
/// `value` is not what JSON can say.
pub fn text(value: &impl Serialize) -> io::Result<String> {
    let mut out = Vec::new();
    compact(&mut out, value)?;
    String::from_utf8(out).map_err(io::Error::other)
}

/// `value` as text with a line for each field.
///
/// # Errors
/// `value` is not what JSON can say.
pub fn pretty_text(value: &impl Serialize) -> io::Result<String> {
    let mut out = Vec::new();
    pretty(&mut out, value)?;
    String::from_utf8(out).map_err(io::Error::other)
}

/// Writes as the formatter within does, with every character of a string escaped that is obeyed where it is shown: serde_json
/// escapes what JSON asks for alone, the controls below U+0020.
struct Escaping<F>(F);

macro_rules! as_within {
    ($($name:ident($($argument:ident: $type:ty),*);)+) => {$(
        fn $name<W: ?Sized + Write>(&mut self, out: &mut W $(, $argument: $type)*) -> io::Result<()> {
            self.0.$name(out $(, $argument)*)
        }
    )+};
}

impl<F: Formatter> Formatter for Escaping<F> {
    as_within! {
        begin_array();
        end_array();
        begin_array_value(first: bool);
        end_array_value();
        begin_object();
        end_object();
        begin_object_key(first: bool);
        end_object_key();
        begin_object_value();
        end_object_value();
    }

    fn write_string_fragment<W: ?Sized + Write>(&mut self, out: &mut W, fragment: &str) -> io::Result<()> {
        let mut plain = 0;
        for (at, c) in fragment.char_indices().filter(|(_, c)| is_obeyed(*c)) {
            out.write_all(&fragment.as_bytes()[plain..at])?;
            for unit in c.encode_utf16(&mut [0; 2]) {
                write!(out, "\\u{unit:04x}")?;
            }
            plain = at + c.len_utf8();
        }
        out.write_all(&fragment.as_bytes()[plain..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_obeyed_is_escaped_and_reads_back() {
        let hostile = "a\u{1b}[2J\n\u{7f}\u{9b}\u{202e}\u{2028}\u{e0041}水\"\\";
        let escaped = text(&[hostile]).unwrap();
        assert_eq!(escaped, r#"["a\u001b[2J\n\u007f\u009b\u202e\u2028\udb40\udc41水\"\\"]"#);
        assert_eq!(serde_json::from_str::<Vec<String>>(&escaped).unwrap(), [hostile]);
        let mut out = Vec::new();
        pretty(&mut out, &serde_json::json!({ "\u{202e}": [1, {}] })).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), "{\n  \"\\u202e\": [\n    1,\n    {}\n  ]\n}");
    }
}
