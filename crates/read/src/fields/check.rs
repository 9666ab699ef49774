//! Holds a document against a field table.

use super::table::{Struct, Table, Type};
use crate::yaml::{Node, Scalar, TypeError, UnknownKeys};

/// Checks an object of `kind`; `unknown` receives keys that no field has.
///
/// # Errors
/// The first value, in the document's order, of another type than its field's.
pub(super) fn object(
    table: &Table,
    kind: &str,
    node: &Node,
    unknown: &UnknownKeys<'_>,
) -> Result<(), TypeError> {
    let check = Check { table, unknown };
    table.lookup(kind).map_or(Ok(()), |described| check.fields(kind, described, node))
}

struct Check<'a> {
    table: &'a Table,
    unknown: &'a UnknownKeys<'a>,
}

impl Check<'_> {
    fn value(&self, asked: Type, node: &Node) -> Result<(), TypeError> {
        match asked {
            Type::Text => node.string().map(drop),
            Type::Bool => node.truth().map(drop),
            Type::Integer(least, most) => match node.integer()? {
                number if (least..=most).contains(&number) => Ok(()),
                _ => Err(node.expected(&format!("a number from {least} to {most}"))),
            },
            Type::Float => match node.scalar() {
                Some((_, Scalar::Int(_) | Scalar::Float(_))) => Ok(()),
                Some((_, Scalar::Null | Scalar::Bool(_) | Scalar::Text)) | None => {
                    Err(node.expected("a number"))
                }
            },
            Type::Time => match node.string()? {
                text if is_timestamp(text) => Ok(()),
                _ => Err(node.expected("a time such as 2026-11-29T08:30:00Z")),
            },
            Type::Scalar => match node.scalar() {
                Some((_, Scalar::Int(_) | Scalar::Float(_) | Scalar::Text)) => Ok(()),
                Some((_, Scalar::Null | Scalar::Bool(_))) | None => Err(node.expected("a number or text")),
            },
            Type::Any => Ok(()),
            Type::Word(words) => node.one_of(words.split('|')).map(drop),
            Type::List(inner) => {
                let inner = Type::of(inner);
                node.list()?.iter().try_for_each(|item| self.value(inner, item))
            }
            Type::Map(inner) => {
                let inner = Type::of(inner);
                let mut pairs = node.mapping(std::iter::empty())?.iter();
                pairs.try_for_each(|(key, item)| word(key).and_then(|_| self.value(inner, item)))
            }
            Type::Struct(name) => match self.table.lookup(name) {
                Some(described) => self.fields(name, described, node),
                None => Ok(()),
            },
        }
    }

    /// The fields of one struct: first all keys, then the values in the document's order.
    fn fields(&self, name: &str, described: &Struct, node: &Node) -> Result<(), TypeError> {
        let names = || described.fields().iter().map(|(field, _)| *field);
        let pairs = node.mapping(names())?;
        let is_unknown = |key: &Node| key.text().is_none_or(|text| described.field(text).is_none());
        for (key, _) in pairs.iter().filter(|(key, _)| is_unknown(key)) {
            self.unknown.report(name, key, names());
        }
        for (key, item) in pairs {
            let demanded = match (word(key)?, described.version) {
                ("apiVersion", Some(version)) => version,
                ("kind", Some(_)) => name,
                // A field that is there and holds nothing counts as one that is missing.
                (field, _) => match described.field(field) {
                    Some(asked) if !item.is_nothing() => {
                        self.value(asked, item)?;
                        continue;
                    }
                    Some(_) | None => continue,
                },
            };
            let written = item.string()?;
            if written != demanded {
                let field = word(key)?;
                let message = format!("expected `{field}: {demanded}` of a {name}, found `{written}`");
                let help = format!("write `{field}: {demanded}`, which is what is read");
                return Err(TypeError::at(item, message).help(help));
            }
        }
        Ok(())
    }
}

/// Keys are text even where they look like numbers.
fn word(key: &Node) -> Result<&str, TypeError> {
    key.text().ok_or_else(|| TypeError::at(key, "a key must be a single word"))
}

/// Whether `text` has the form of RFC 3339's `date-time`.
fn is_timestamp(text: &str) -> bool {
    let digits =
        |part: &str, count: usize| part.len() == count && part.bytes().all(|byte| byte.is_ascii_digit());
    let clock = |part: &str| part.split(':').all(|two| digits(two, 2));
    let Some((date, time)) = text.split_once(['T', 't', ' ']) else { return false };
    let Some(zone) = time.find(['Z', 'z', '+', '-']) else { return false };
    let (time, zone) = time.split_at(zone);
    let (whole, fraction) = time.split_once('.').unwrap_or((time, "0"));
    let mut day = date.split('-');
    let date = [4, 2, 2].into_iter().all(|count| day.next().is_some_and(|part| digits(part, count)));
    date && day.next().is_none()
        && clock(whole)
        && whole.split(':').count() == 3
        && digits(fraction, fraction.len().max(1))
        && (matches!(zone, "Z" | "z") || clock(&zone[1..]) && zone[1..].split(':').count() == 2)
}

#[cfg(test)]
mod tests {
    use super::is_timestamp;

    #[test]
    fn timestamps_are_those_of_the_api() {
        for good in ["2026-11-29T08:30:00Z", "2026-11-29T08:30:00.123456Z", "2026-11-29T08:30:00+01:00"] {
            assert!(is_timestamp(good), "{good}");
        }
        for bad in
            ["", "yesterday", "2026-11-29", "2026-11-29T08:30Z", "2026-11-29T08:30:00", "26-11-29T08:30:00Z"]
        {
            assert!(!is_timestamp(bad), "{bad}");
        }
    }
}
