//! Nodes as a serde data format: typed structs read from them, mistakes point into the text.
//!
//! serde tells a format the names of a struct's fields, so keys that no field has are found here
//! for any type, with the nearest known one as a proposal.

use std::cell::RefCell;
use std::fmt;
use std::ops::Range;

use mivask_core::words::nearest;
use serde::de::{self, DeserializeOwned, DeserializeSeed, Visitor, value::StrDeserializer};

use super::node::{Node, Value};
use super::scalar::{Scalar, resolve};
use crate::slip::{Severity, Slip, Slips};
use crate::text::SourceText;

/// The name under which a newtype asks for a scalar's text as it stands, whatever it looks like.
pub const RAW: &str = "mivask::raw";

/// Reads `T` from `node`. Unknown keys become warnings; `misplaced` may know where a key belongs.
///
/// A value of the wrong type is reported as an error, and `None` comes back.
pub fn from_node<T: DeserializeOwned>(
    node: &Node,
    source: &SourceText,
    slips: &mut Slips,
    misplaced: fn(&str, &str) -> Option<&'static str>,
) -> Option<T> {
    let context = Context { source, warnings: RefCell::new(Vec::new()), misplaced };
    let result = T::deserialize(NodeReader { node, context: &context });
    context.warnings.into_inner().into_iter().for_each(|slip| slips.push(slip));
    match result {
        Ok(value) => Some(value),
        Err(error) => {
            let span = error.span.unwrap_or_else(|| node.span.clone());
            slips.add(Severity::Error, source, &span, error.message, error.help);
            None
        }
    }
}

struct Context<'a> {
    source: &'a SourceText,
    warnings: RefCell<Vec<Slip>>,
    misplaced: fn(&str, &str) -> Option<&'static str>,
}

impl Context<'_> {
    fn unknown_key(&self, holder: &str, key: &Node, fields: &[&'static str]) {
        let text = key.text().unwrap_or_default();
        // The Compose specification leaves such keys to whoever wants them.
        if text.starts_with("x-") {
            return;
        }
        let help = match (self.misplaced)(holder, text) {
            Some(place) => Some(format!("it belongs {place}")),
            None => nearest(text, fields.iter().copied()).map(|known| format!("did you mean `{known}`?")),
        };
        let message = format!("`{text}` is no known key here, so it is ignored");
        let slip = Slip {
            severity: Severity::Warning,
            source: self.source.clone(),
            span: key.span.clone(),
            message,
            help,
        };
        self.warnings.borrow_mut().push(slip);
    }
}

/// A type mistake.
#[derive(Debug)]
struct TypeError {
    span: Option<Range<usize>>,
    message: String,
    help: Option<String>,
}

impl TypeError {
    fn at(node: &Node, message: impl Into<String>) -> Self {
        Self { span: Some(node.span.clone()), message: message.into(), help: None }
    }

    fn help(mut self, help: impl Into<String>) -> Self {
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
}

#[derive(Clone, Copy)]
struct NodeReader<'a> {
    node: &'a Node,
    context: &'a Context<'a>,
}

impl<'a> NodeReader<'a> {
    /// An error without a place gets this node's.
    fn placed<T>(self, result: Result<T, TypeError>) -> Result<T, TypeError> {
        result.map_err(|mut error| {
            error.span.get_or_insert_with(|| self.node.span.clone());
            error
        })
    }

    fn scalar(self) -> Option<(&'a str, Scalar)> {
        match &self.node.value {
            Value::Scalar { text, plain: true } => Some((text, resolve(text))),
            Value::Scalar { text, plain: false } => Some((text, Scalar::Text)),
            Value::Sequence(_) | Value::Mapping(_) => None,
        }
    }

    fn is_null(self) -> bool {
        matches!(self.scalar(), Some((_, Scalar::Null)))
    }

    fn expected(self, what: &str) -> TypeError {
        let found = match self.scalar() {
            Some((_, Scalar::Null)) => "nothing".to_owned(),
            Some((text, Scalar::Text)) => format!("the text `{}`", shorten(text)),
            Some((text, _)) => format!("`{text}`"),
            None => self.node.noun().to_owned(),
        };
        TypeError::at(self.node, format!("expected {what}, found {found}"))
    }

    fn integer(self) -> Result<i64, TypeError> {
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

    /// A scalar where a mapping belongs is mostly a `key value` without its colon.
    fn no_mapping(self, fields: &[&'static str]) -> TypeError {
        let error = self.expected("a mapping");
        let words: Vec<&str> = self.node.text().unwrap_or_default().split_whitespace().collect();
        match words.as_slice() {
            [key, value] => match nearest(key, fields.iter().copied()) {
                Some(known) => error.help(format!("a colon is missing: write `{known}: {value}`")),
                None => error,
            },
            _ => error,
        }
    }
}

fn shorten(text: &str) -> String {
    let mut short: String = text.chars().take(40).flat_map(char::escape_debug).collect();
    if text.chars().nth(40).is_some() {
        short.push('…');
    }
    short
}

macro_rules! integers {
    ($($method:ident),+) => {$(
        fn $method<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
            let number = self.integer()?;
            self.placed(visitor.visit_i64(number))
        }
    )+};
}

impl<'de> de::Deserializer<'de> for NodeReader<'_> {
    type Error = TypeError;

    integers!(deserialize_i8, deserialize_i16, deserialize_i32, deserialize_i64);
    integers!(deserialize_u8, deserialize_u16, deserialize_u32, deserialize_u64);

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let result = match (&self.node.value, self.scalar()) {
            (Value::Sequence(_), _) => return self.deserialize_seq(visitor),
            (Value::Mapping(_), _) => return self.deserialize_map(visitor),
            (Value::Scalar { .. }, Some((text, scalar))) => match scalar {
                Scalar::Null => visitor.visit_unit(),
                Scalar::Bool(value) => visitor.visit_bool(value),
                Scalar::Int(value) => visitor.visit_i64(value),
                Scalar::Float(value) => visitor.visit_f64(value),
                Scalar::Text => visitor.visit_str(text),
            },
            (Value::Scalar { .. }, None) => visitor.visit_unit(),
        };
        self.placed(result)
    }

    fn deserialize_bool<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        match self.scalar() {
            Some((_, Scalar::Bool(value))) => self.placed(visitor.visit_bool(value)),
            Some((text, Scalar::Text)) if matches!(resolve(text), Scalar::Bool(_)) => {
                Err(self.expected("true or false").help("a truth value in quotes is text: remove the quotes"))
            }
            _ => Err(self.expected("true or false")),
        }
    }

    fn deserialize_f32<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_f64<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        match self.scalar() {
            Some((text, Scalar::Text)) => self.placed(visitor.visit_str(text)),
            Some((text, Scalar::Bool(_) | Scalar::Int(_) | Scalar::Float(_))) => {
                Err(self.expected("text").help(format!("put it in quotes: \"{text}\"")))
            }
            Some((_, Scalar::Null)) | None => Err(self.expected("text")),
        }
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_str(visitor)
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        if self.is_null() { self.placed(visitor.visit_none()) } else { visitor.visit_some(self) }
    }

    fn deserialize_unit<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_unit_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        if name != RAW {
            return self.placed(visitor.visit_newtype_struct(self));
        }
        match self.node.text() {
            Some(text) => self.placed(visitor.visit_str(text)),
            None => Err(self.expected("a single value")),
        }
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let items = match &self.node.value {
            Value::Sequence(items) => items.as_slice(),
            Value::Scalar { .. } if self.is_null() => &[],
            Value::Scalar { text, .. } => {
                return Err(self.expected("a list").help(format!("write [{}]", shorten(text))));
            }
            Value::Mapping(_) => {
                return Err(self.expected("a list").help("begin each element with `- `"));
            }
        };
        self.placed(visitor.visit_seq(Items { items: items.iter(), context: self.context }))
    }

    fn deserialize_tuple<V: Visitor<'de>>(self, _: usize, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_seq(visitor)
    }

    fn deserialize_tuple_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: usize,
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        self.deserialize_seq(visitor)
    }

    fn deserialize_map<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let pairs = match &self.node.value {
            Value::Mapping(pairs) => pairs.as_slice(),
            Value::Scalar { .. } if self.is_null() => &[],
            Value::Scalar { .. } | Value::Sequence(_) => return Err(self.no_mapping(&[])),
        };
        self.placed(visitor.visit_map(Pairs { pairs: pairs.iter(), value: None, context: self.context }))
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        let pairs = match &self.node.value {
            Value::Mapping(pairs) => pairs.as_slice(),
            Value::Scalar { .. } if self.is_null() => &[],
            Value::Scalar { .. } | Value::Sequence(_) => return Err(self.no_mapping(fields)),
        };
        for (key, _) in pairs.iter().filter(|(key, _)| key.text().is_none_or(|text| !fields.contains(&text)))
        {
            self.context.unknown_key(name, key, fields);
        }
        self.placed(visitor.visit_map(Pairs { pairs: pairs.iter(), value: None, context: self.context }))
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        let text = self.node.text().ok_or_else(|| self.expected("a single word"))?;
        if !variants.contains(&text) {
            let error = TypeError::at(
                self.node,
                format!("`{}` is not one of {}", shorten(text), variants.join(", ")),
            );
            return Err(match nearest(text, variants.iter().copied()) {
                Some(known) => error.help(format!("did you mean `{known}`?")),
                None => error,
            });
        }
        let variant: StrDeserializer<'_, TypeError> = de::IntoDeserializer::into_deserializer(text);
        self.placed(visitor.visit_enum(variant))
    }

    fn deserialize_identifier<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.placed(visitor.visit_str(self.node.text().unwrap_or_default()))
    }

    fn deserialize_ignored_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        visitor.visit_unit()
    }

    serde::forward_to_deserialize_any! { i128 u128 char bytes byte_buf }
}

struct Items<'a> {
    items: std::slice::Iter<'a, Node>,
    context: &'a Context<'a>,
}

impl<'de> de::SeqAccess<'de> for Items<'_> {
    type Error = TypeError;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, TypeError> {
        let Some(node) = self.items.next() else {
            return Ok(None);
        };
        seed.deserialize(NodeReader { node, context: self.context }).map(Some)
    }
}

struct Pairs<'a> {
    pairs: std::slice::Iter<'a, (Node, Node)>,
    value: Option<&'a Node>,
    context: &'a Context<'a>,
}

impl<'de> de::MapAccess<'de> for Pairs<'_> {
    type Error = TypeError;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, TypeError> {
        let Some((key, value)) = self.pairs.next() else {
            return Ok(None);
        };
        self.value = Some(value);
        // Keys are text even where they look like numbers.
        let text = key.text().ok_or_else(|| TypeError::at(key, "a key must be a single word"))?;
        let reader: StrDeserializer<'_, TypeError> = de::IntoDeserializer::into_deserializer(text);
        seed.deserialize(reader).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, TypeError> {
        let node = self.value.take().ok_or_else(|| de::Error::custom("a value without a key"))?;
        seed.deserialize(NodeReader { node, context: self.context })
    }
}
