//! Nodes as a serde data format: typed structs read from them, mistakes point into the text.
//!
//! serde tells a format the names of a struct's fields, so keys that no field has are found here
//! for any type, with the nearest known one as a proposal.

use std::cell::RefCell;

use serde::de::{self, DeserializeOwned, DeserializeSeed, Visitor, value::StrDeserializer};

use super::node::{Node, Value};
use super::scalar::Scalar;
use super::typed::TypeError;
use crate::diagnostic::{Diagnostic, Diagnostics, Severity};
use crate::nearest::nearest;
use crate::text::SourceText;

/// The name under which a newtype asks for a scalar's text as it is, whatever it looks like.
pub const RAW: &str = "mivask::raw";

/// Where a key that is unknown on a struct belongs, by the names of struct and key.
pub(crate) type Misplaced = fn(&str, &str) -> Option<&'static str>;

/// Reads `T` from `node`. Unknown keys become warnings; `misplaced` may know where a key belongs.
///
/// A value of the wrong type is reported as an error, and `None` comes back.
pub fn from_node<T: DeserializeOwned>(
    node: &Node,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
    misplaced: Misplaced,
) -> Option<T> {
    let context = Context { unknown: Some(UnknownKeys::new(source, misplaced)) };
    let result = T::deserialize(NodeReader { node, context: &context });
    if let Some(unknown) = context.unknown {
        unknown.into_slips(diagnostics);
    }
    accepted(result, node, source, diagnostics)
}

/// Reads `T` from a `node` whose keys and types were checked: keys that `T` does not have are skipped over.
pub(crate) fn from_checked_node<T: DeserializeOwned>(
    node: &Node,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<T> {
    let result = T::deserialize(NodeReader { node, context: &Context { unknown: None } });
    accepted(result, node, source, diagnostics)
}

/// The value, or the mistake as an error of the document `node`.
pub(crate) fn accepted<T>(
    result: Result<T, TypeError>,
    node: &Node,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<T> {
    let report = |error: TypeError| {
        let span = error.span.unwrap_or_else(|| node.span.clone());
        diagnostics.add(Severity::Error, source, &span, error.message, error.help);
    };
    result.map_err(report).ok()
}

struct Context<'a> {
    /// Receives unknown keys; `None` where unknown keys are fine.
    unknown: Option<UnknownKeys<'a>>,
}

/// Keys that a document has and its types do not.
pub(crate) struct UnknownKeys<'a> {
    source: &'a SourceText,
    warnings: RefCell<Vec<Diagnostic>>,
    misplaced: Misplaced,
}

impl<'a> UnknownKeys<'a> {
    /// None yet.
    pub(crate) const fn new(source: &'a SourceText, misplaced: Misplaced) -> Self {
        Self { source, warnings: RefCell::new(Vec::new()), misplaced }
    }

    /// `key`, which the struct `holder` with the keys `fields` does not have.
    pub(crate) fn report<'f>(&self, holder: &str, key: &Node, fields: impl Iterator<Item = &'f str>) {
        let text = key.text().unwrap_or_default();
        // The Compose specification leaves such keys to whoever wants them.
        if text.starts_with("x-") {
            return;
        }
        let help = match (self.misplaced)(holder, text) {
            Some(place) => Some(format!("it belongs {place}")),
            None => nearest(text, fields).map(|known| format!("did you mean `{known}`?")),
        };
        let message = format!("unknown key `{text}`, ignored");
        let diagnostic = Diagnostic {
            severity: Severity::Warning,
            source: self.source.clone(),
            span: key.span.clone(),
            message,
            help,
        };
        self.warnings.borrow_mut().push(diagnostic);
    }

    /// Each as a warning.
    pub(crate) fn into_slips(self, diagnostics: &mut Diagnostics) {
        self.warnings.into_inner().into_iter().for_each(|diagnostic| diagnostics.push(diagnostic));
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
        match result {
            Ok(value) => Ok(value),
            Err(error) => Err(self.place(error)),
        }
    }

    // What follows is not generic: it is compiled once, and not for each struct that is read.

    #[cold]
    fn place(self, mut error: TypeError) -> TypeError {
        error.span.get_or_insert_with(|| self.node.span.clone());
        error
    }

    /// The pairs of the struct `name`, after those that it has no field for were reported.
    fn fields(self, name: &str, fields: &'static [&'static str]) -> Result<&'a [(Node, Node)], TypeError> {
        let pairs = self.node.mapping(fields.iter().copied())?;
        if let Some(unknown) = &self.context.unknown {
            let is_unknown = |key: &Node| key.text().is_none_or(|text| !fields.contains(&text));
            for (key, _) in pairs.iter().filter(|(key, _)| is_unknown(key)) {
                unknown.report(name, key, fields.iter().copied());
            }
        }
        Ok(pairs)
    }

    fn pairs<'de, V: Visitor<'de>>(
        self,
        pairs: &'a [(Node, Node)],
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        self.placed(visitor.visit_map(Pairs { pairs: pairs.iter(), value: None, context: self.context }))
    }
}

macro_rules! integers {
    ($($method:ident),+) => {$(
        fn $method<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
            let number = self.node.integer()?;
            self.placed(visitor.visit_i64(number))
        }
    )+};
}

impl<'de> de::Deserializer<'de> for NodeReader<'_> {
    type Error = TypeError;

    integers!(deserialize_i8, deserialize_i16, deserialize_i32, deserialize_i64);
    integers!(deserialize_u8, deserialize_u16, deserialize_u32, deserialize_u64);

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let result = match (&self.node.value, self.node.scalar()) {
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
        let value = self.node.truth()?;
        self.placed(visitor.visit_bool(value))
    }

    fn deserialize_f32<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_f64<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_any(visitor)
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let text = self.node.string()?;
        self.placed(visitor.visit_str(text))
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        self.deserialize_str(visitor)
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        if self.node.is_nothing() { self.placed(visitor.visit_none()) } else { visitor.visit_some(self) }
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
            None => Err(self.node.expected("a single value")),
        }
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, TypeError> {
        let items = self.node.list()?;
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
        self.pairs(self.node.mapping(std::iter::empty())?, visitor)
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        self.pairs(self.fields(name, fields)?, visitor)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, TypeError> {
        let text = self.node.one_of(variants.iter().copied())?;
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

impl<'a> Pairs<'a> {
    /// The next key, whose value is asked for next.
    fn next(&mut self) -> Result<Option<&'a str>, TypeError> {
        // In a checked document a field that holds nothing counts as one that is missing.
        let checked = self.context.unknown.is_none();
        let Some((key, value)) = self.pairs.find(|(_, value)| !(checked && value.is_nothing())) else {
            return Ok(None);
        };
        self.value = Some(value);
        // Keys are text even where they look like numbers.
        key.text().map(Some).ok_or_else(|| TypeError::at(key, "a key must be a single word"))
    }
}

impl<'de> de::MapAccess<'de> for Pairs<'_> {
    type Error = TypeError;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, TypeError> {
        let Some(text) = self.next()? else { return Ok(None) };
        let reader: StrDeserializer<'_, TypeError> = de::IntoDeserializer::into_deserializer(text);
        seed.deserialize(reader).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, TypeError> {
        match self.value.take() {
            Some(node) => seed.deserialize(NodeReader { node, context: self.context }),
            None => Err(de::Error::custom("a value without a key")),
        }
    }
}
