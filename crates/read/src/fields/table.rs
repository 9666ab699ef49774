//! A field table: `kubernetes.txt` or `oci.txt`, made by tools/api-fields.

use std::sync::OnceLock;

/// The type of a value.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Type {
    /// A text.
    Text,
    /// A truth value.
    Bool,
    /// A whole number from the first to the second.
    Integer(i64, i64),
    /// Any number.
    Float,
    /// A timestamp of RFC 3339.
    Time,
    /// A number or a text: `Quantity`, `IntOrString`.
    Scalar,
    /// Anything.
    Any,
    /// One of several words, with `|` between them.
    Word(&'static str),
    /// A list of values of a type.
    List(&'static str),
    /// A mapping from any text to values of a type.
    Map(&'static str),
    /// A struct of the table.
    Struct(&'static str),
}

impl Type {
    /// The type that the table writes as `word`.
    pub(super) fn of(word: &'static str) -> Self {
        match word {
            "text" => Self::Text,
            "bool" => Self::Bool,
            "int32" => Self::Integer(i32::MIN as i64, i32::MAX as i64),
            "int64" => Self::Integer(i64::MIN, i64::MAX),
            "uint8" => Self::Integer(0, u8::MAX as i64),
            "uint16" => Self::Integer(0, u16::MAX as i64),
            "uint32" => Self::Integer(0, u32::MAX as i64),
            // Numbers of documents are held in 64 bits with a sign.
            "uint64" => Self::Integer(0, i64::MAX),
            "float" => Self::Float,
            "time" => Self::Time,
            "scalar" => Self::Scalar,
            "any" => Self::Any,
            _ if word.starts_with('[') => Self::List(&word[1..word.len() - 1]),
            _ if word.starts_with('{') => Self::Map(&word[1..word.len() - 1]),
            _ if word.contains('|') => Self::Word(word),
            _ => Self::Struct(word),
        }
    }
}

/// A struct of the specification.
#[derive(Debug)]
pub(super) struct Struct {
    name: &'static str,
    /// The API version, where it is a Kubernetes kind.
    pub version: Option<&'static str>,
    /// Its lines of the table.
    lines: &'static str,
    /// The same, read once a document has such a struct: most documents have few of them.
    fields: OnceLock<Vec<(&'static str, Type)>>,
}

impl Struct {
    /// Names and types of its fields, in the specification's order.
    pub(super) fn fields(&self) -> &[(&'static str, Type)] {
        let field = |line: &'static str| {
            let (name, word) = line.trim_start().split_once(' ')?;
            Some((name, Type::of(word)))
        };
        self.fields.get_or_init(|| self.lines.lines().filter_map(field).collect())
    }

    /// The type of the field `name`.
    pub(super) fn field(&self, name: &str) -> Option<Type> {
        self.fields().iter().find(|(known, _)| *known == name).map(|(_, field)| *field)
    }
}

/// Every struct of a specification, in the order of their names.
#[derive(Debug)]
pub(crate) struct Table(Vec<Struct>);

impl Table {
    /// A line that is not indented begins a struct, `#` a comment.
    pub(super) fn parse(text: &'static str) -> Self {
        let mut structs = Vec::new();
        let mut rest = text;
        while let Some((head, behind)) = rest.split_once('\n') {
            let mut end = 0;
            while behind[end..].starts_with(' ') {
                end += behind[end..].find('\n').map_or(behind.len() - end, |at| at + 1);
            }
            let (name, version) = match head.split_once(' ') {
                Some((name, version)) => (name, Some(version)),
                None => (head, None),
            };
            if name != "#" {
                structs.push(Struct { name, version, lines: &behind[..end], fields: OnceLock::new() });
            }
            rest = &behind[end..];
        }
        Self(structs)
    }

    /// The struct called `name`.
    pub(super) fn lookup(&self, name: &str) -> Option<&Struct> {
        self.0.binary_search_by(|described| described.name.cmp(name)).ok().map(|at| &self.0[at])
    }
}

#[cfg(test)]
mod tests {
    use super::super::{KUBERNETES, OCI};
    use super::*;

    #[test]
    fn every_type_that_a_field_names_is_in_its_table() {
        for table in [&*KUBERNETES, &*OCI] {
            assert!(table.0.is_sorted_by_key(|described| described.name), "they are looked up by name");
            for described in &table.0 {
                for (field, asked) in described.fields() {
                    let mut asked = *asked;
                    while let Type::List(inner) | Type::Map(inner) = asked {
                        asked = Type::of(inner);
                    }
                    if let Type::Struct(inner) = asked {
                        assert!(table.lookup(inner).is_some(), "{}.{field} is of {inner}", described.name);
                    }
                }
            }
        }
    }

    #[test]
    fn kinds_name_their_version() {
        assert_eq!(KUBERNETES.lookup("Deployment").and_then(|kind| kind.version), Some("apps/v1"));
        assert_eq!(KUBERNETES.lookup("PodSpec").and_then(|kind| kind.version), None);
    }

    #[test]
    fn fields_have_the_types_of_the_specification() {
        let spec = KUBERNETES.lookup("PodSpec").expect("pods have a spec");
        assert_eq!(spec.field("containers"), Some(Type::List("Container")));
        assert_eq!(spec.field("nodeSelector"), Some(Type::Map("text")));
        assert_eq!(spec.field("runAsUser"), None);
        let user = OCI.lookup("User").expect("processes have a user");
        assert_eq!(user.field("uid"), Some(Type::Integer(0, 4_294_967_295)));
        let namespace = OCI.lookup("LinuxNamespace").expect("there are namespaces");
        assert!(matches!(namespace.field("type"), Some(Type::Word(words)) if words.contains("|user|")));
    }
}
