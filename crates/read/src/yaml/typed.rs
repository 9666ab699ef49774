//! What a node has to be: a truth value, a number, text, a list or a mapping, and the mistake where it is not.
//!
//! Both readers of typed values are on it: serde's ([`from_node`](super::from_node)) and the check against the
//! field table of the Kubernetes API. Nothing here is generic, so it is compiled once.

use std::fmt;
use std::ops::Range;

use serde::de;

use super::node::{Node, Value};
use super::scalar::{Scalar, resolve};
use crate::nearest::nearest;

/// A value of the wrong type.
#[derive(Debug)]
pub(crate) struct TypeError {
    /// The bytes it is at; `None` where whoever found it does not know.
    pub span: Option<Range<usize>>,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

impl TypeError {
    /// A mistake in the value `node`.
    pub(crate) fn at(node: &Node, message: impl Into<String>) -> Self {
        Self { span: Some(node.span.clone()), message: message.into(), help: None }
    }

    /// The same, with what to do.
    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

impl fmt::Display for TypeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for TypeError {}

impl de::Error for TypeError {
    fn custom<T: fmt::Display>(message: T) -> Self {
        Self { span: None, message: message.to_string(), help: None }
    }

    fn missing_field(field: &'static str) -> Self {
        Self { span: None, message: format!("`{field}` is missing"), help: None }
    }

    fn duplicate_field(field: &'static str) -> Self {
        Self { span: None, message: format!("`{field}` is given twice"), help: None }
    }

    fn invalid_type(found: de::Unexpected<'_>, expected: &dyn de::Expected) -> Self {
        Self::invalid_value(found, expected)
    }

    fn invalid_value(found: de::Unexpected<'_>, expected: &dyn de::Expected) -> Self {
        let found = match found {
            de::Unexpected::Signed(number) => format!("`{number}`"),
            de::Unexpected::Unsigned(number) => format!("`{number}`"),
            de::Unexpected::Float(number) => format!("`{number}`"),
            de::Unexpected::Bool(truth) => format!("`{truth}`"),
            de::Unexpected::Str(text) => format!("the text `{}`", shorten(text)),
            de::Unexpected::Unit | de::Unexpected::Option => "nothing".to_owned(),
            de::Unexpected::Seq => "a list".to_owned(),
            de::Unexpected::Map => "a mapping".to_owned(),
            de::Unexpected::Char(letter) => format!("the text `{letter}`"),
            de::Unexpected::Bytes(_) => "bytes".to_owned(),
            de::Unexpected::Other(what) => what.to_owned(),
            de::Unexpected::NewtypeStruct
            | de::Unexpected::Enum
            | de::Unexpected::UnitVariant
            | de::Unexpected::NewtypeVariant
            | de::Unexpected::TupleVariant
            | de::Unexpected::StructVariant => "something else".to_owned(),
        };
        let expected = expected.to_string();
        let expected = range(&expected).unwrap_or(expected);
        Self { span: None, message: format!("expected {expected}, found {found}"), help: None }
    }

    fn invalid_length(length: usize, expected: &dyn de::Expected) -> Self {
        Self { span: None, message: format!("expected {expected}, found {length} of them"), help: None }
    }
}

/// What an integer type of Rust means to whoever writes the number.
fn range(integer: &str) -> Option<String> {
    let (least, most) = match integer {
        "u8" => (0, i64::from(u8::MAX)),
        "u16" => (0, i64::from(u16::MAX)),
        "u32" => (0, i64::from(u32::MAX)),
        "u64" | "usize" => (0, i64::MAX),
        "i8" => (i64::from(i8::MIN), i64::from(i8::MAX)),
        "i16" => (i64::from(i16::MIN), i64::from(i16::MAX)),
        "i32" => (i64::from(i32::MIN), i64::from(i32::MAX)),
        "i64" | "isize" => (i64::MIN, i64::MAX),
        _ => return None,
    };
    Some(format!("a number from {least} to {most}"))
}

impl Node {
    /// The text of a scalar and what it means; quotes make it text.
    pub(crate) fn scalar(&self) -> Option<(&str, Scalar)> {
        match &self.value {
            Value::Scalar { text, plain: true } => Some((text, resolve(text))),
            Value::Scalar { text, plain: false } => Some((text, Scalar::Text)),
            Value::Sequence(_) | Value::Mapping(_) => None,
        }
    }

    /// The mistake of not being `what`.
    pub(crate) fn expected(&self, what: &str) -> TypeError {
        let found = match self.scalar() {
            Some((_, Scalar::Null)) => "nothing".to_owned(),
            Some((text, Scalar::Text)) => format!("the text `{}`", shorten(text)),
            Some((text, _)) => format!("`{text}`"),
            None => self.noun().to_owned(),
        };
        TypeError::at(self, format!("expected {what}, found {found}"))
    }

    /// A whole number; a float without a fraction counts as one.
    pub(crate) fn integer(&self) -> Result<i64, TypeError> {
        match self.scalar() {
            Some((_, Scalar::Int(number))) => Ok(number),
            Some((_, Scalar::Float(number))) if number.fract() == 0.0 && number.abs() < 9.0e15 =>
            {
                #[expect(clippy::cast_possible_truncation, reason = "a whole number below 2^53")]
                Ok(number as i64)
            }
            Some((text, Scalar::Text)) if matches!(resolve(text), Scalar::Int(_)) => {
                Err(self.expected("a number").help("a number in quotes is text: remove the quotes"))
            }
            _ => Err(self.expected("a whole number")),
        }
    }

    /// A truth value.
    pub(crate) fn truth(&self) -> Result<bool, TypeError> {
        match self.scalar() {
            Some((_, Scalar::Bool(value))) => Ok(value),
            Some((text, Scalar::Text)) if matches!(resolve(text), Scalar::Bool(_)) => {
                Err(self.expected("true or false").help("a truth value in quotes is text: remove the quotes"))
            }
            _ => Err(self.expected("true or false")),
        }
    }

    /// A text; numbers and truth values are none without quotes.
    pub(crate) fn string(&self) -> Result<&str, TypeError> {
        match self.scalar() {
            Some((text, Scalar::Text)) => Ok(text),
            Some((text, Scalar::Bool(_) | Scalar::Int(_) | Scalar::Float(_))) => {
                Err(self.expected("text").help(format!("put it in quotes: \"{text}\"")))
            }
            Some((_, Scalar::Null)) | None => Err(self.expected("text")),
        }
    }

    /// One of several words.
    pub(crate) fn one_of<'w>(&self, words: impl Iterator<Item = &'w str>) -> Result<&str, TypeError> {
        let text = self.text().ok_or_else(|| self.expected("a single word"))?;
        let words: Vec<&str> = words.collect();
        if words.contains(&text) {
            return Ok(text);
        }
        let error = TypeError::at(self, format!("`{}` is not one of {}", shorten(text), words.join(", ")));
        Err(match nearest(text, words) {
            Some(known) => error.help(format!("did you mean `{known}`?")),
            None => error,
        })
    }

    /// The elements of a list; nothing at all is an empty one.
    pub(crate) fn list(&self) -> Result<&[Self], TypeError> {
        match &self.value {
            Value::Sequence(items) => Ok(items),
            Value::Scalar { .. } if self.is_nothing() => Ok(&[]),
            Value::Scalar { text, .. } => {
                Err(self.expected("a list").help(format!("write [{}]", shorten(text))))
            }
            Value::Mapping(_) => Err(self.expected("a list").help("begin each element with `- `")),
        }
    }

    /// The pairs of a mapping that may have the keys `fields`; nothing at all is an empty one.
    ///
    /// A scalar where a mapping belongs is mostly a `key value` without its colon.
    pub(crate) fn mapping<'f>(
        &self,
        fields: impl Iterator<Item = &'f str>,
    ) -> Result<&[(Self, Self)], TypeError> {
        match &self.value {
            Value::Mapping(pairs) => return Ok(pairs),
            Value::Scalar { .. } if self.is_nothing() => return Ok(&[]),
            Value::Scalar { .. } | Value::Sequence(_) => {}
        }
        let error = self.expected("a mapping");
        let words: Vec<&str> = self.text().unwrap_or_default().split_whitespace().collect();
        Err(match words.as_slice() {
            [key, value] => match nearest(key, fields) {
                Some(known) => error.help(format!("a colon is missing: write `{known}: {value}`")),
                None => error,
            },
            _ => error,
        })
    }
}

/// The first 40 characters, escaped.
fn shorten(text: &str) -> String {
    let mut short: String = text.chars().take(40).flat_map(char::escape_debug).collect();
    if text.chars().nth(40).is_some() {
        short.push('…');
    }
    short
}
