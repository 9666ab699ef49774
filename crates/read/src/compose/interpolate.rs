//! `${NAME}` and its forms (Compose specification, "Interpolation").

/// Bytes of a text with its variables replaced.
pub(super) const LONGEST: usize = 1 << 20;

/// Variables within the defaults of others.
pub(super) const DEEPEST_NESTING: usize = 32;

/// Why a text cannot be interpolated.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Trouble {
    /// `${NAME:?why}` without a value.
    Required {
        /// The variable.
        name: String,
        /// What the file says about it.
        why: String,
    },
    /// A `${` that begins none of the forms.
    Form,
    /// It becomes longer than [`LONGEST`].
    Long,
    /// More than [`DEEPEST_NESTING`] variables are nested.
    Deep,
}

/// `text` with its variables replaced. The names of variables that have no value and no default are added to `unset`.
///
/// # Errors
/// A required variable has no value, or the text is malformed.
pub(super) fn interpolate(
    text: &str,
    value: &dyn Fn(&str) -> Option<String>,
    unset: &mut Vec<String>,
) -> Result<String, Trouble> {
    nested(text, value, unset, 0)
}

fn nested(
    text: &str,
    value: &dyn Fn(&str) -> Option<String>,
    unset: &mut Vec<String>,
    depth: usize,
) -> Result<String, Trouble> {
    if depth > DEEPEST_NESTING {
        return Err(Trouble::Deep);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        let behind = &rest[at + 1..];
        if let Some(after) = behind.strip_prefix('$') {
            out.push('$');
            rest = after;
        } else if let Some(inner) = behind.strip_prefix('{') {
            let end = closing(inner).ok_or(Trouble::Form)?;
            out.push_str(&braced(&inner[..end], value, unset, depth)?);
            rest = &inner[end + 1..];
        } else {
            let length = name_length(behind);
            // A `$` that begins no form is text, as in `^end$`.
            if length == 0 {
                out.push('$');
                rest = behind;
                continue;
            }
            out.push_str(&plain(&behind[..length], value, unset));
            rest = &behind[length..];
        }
        if out.len() > LONGEST {
            return Err(Trouble::Long);
        }
    }
    out.push_str(rest);
    Ok(out)
}

/// The byte of the `}` that closes what was opened before `text`.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 1;
    for (at, c) in text.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return Some(at);
        }
    }
    None
}

fn name_length(text: &str) -> usize {
    let word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
    let length = text.bytes().take_while(|byte| word(*byte)).count();
    if text.bytes().next().is_some_and(|first| first.is_ascii_digit()) { 0 } else { length }
}

fn plain(name: &str, value: &dyn Fn(&str) -> Option<String>, unset: &mut Vec<String>) -> String {
    value(name).unwrap_or_else(|| {
        unset.push(name.to_owned());
        String::new()
    })
}

/// What is between the braces.
fn braced(
    inner: &str,
    value: &dyn Fn(&str) -> Option<String>,
    unset: &mut Vec<String>,
    depth: usize,
) -> Result<String, Trouble> {
    let length = name_length(inner);
    let (name, form) = inner.split_at(length);
    if name.is_empty() {
        return Err(Trouble::Form);
    }
    if form.is_empty() {
        return Ok(plain(name, value, unset));
    }
    // With a colon, an empty value counts as none.
    let (empty_is_none, form) = form.strip_prefix(':').map_or((false, form), |form| (true, form));
    let given = value(name).filter(|value| !(empty_is_none && value.is_empty()));
    let mut nested = |text: &str| nested(text, value, unset, depth + 1);
    match (form.split_at_checked(1), given) {
        (Some(("-", _)), Some(value)) => Ok(value),
        (Some(("-", default)), None) => nested(default),
        (Some(("?", _)), Some(value)) => Ok(value),
        (Some(("?", why)), None) => Err(Trouble::Required { name: name.to_owned(), why: nested(why)? }),
        (Some(("+", other)), Some(_)) => nested(other),
        (Some(("+", _)), None) => Ok(String::new()),
        _ => Err(Trouble::Form),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(text: &str) -> Result<String, Trouble> {
        let value = |name: &str| match name {
            "SET" => Some("yes".to_owned()),
            "EMPTY" => Some(String::new()),
            _ => None,
        };
        interpolate(text, &value, &mut Vec::new())
    }

    macro_rules! forms {
        ($($name:ident: $text:literal => $expected:expr;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(run($text), $expected.map(str::to_owned));
            }
        )+};
    }

    forms! {
        bare: "a$SET/b" => Ok::<&str, Trouble>("ayes/b");
        braces: "${SET}x" => Ok::<&str, Trouble>("yesx");
        a_dollar: "$$SET" => Ok::<&str, Trouble>("$SET");
        unset_is_empty: "<$NOPE>" => Ok::<&str, Trouble>("<>");
        default_for_unset: "${NOPE-d}${EMPTY-d}" => Ok::<&str, Trouble>("d");
        default_for_empty: "${NOPE:-d}${EMPTY:-d}${SET:-d}" => Ok::<&str, Trouble>("ddyes");
        alternative: "${SET+a}${EMPTY+b}${EMPTY:+c}${NOPE+d}" => Ok::<&str, Trouble>("ab");
        nested: "${NOPE:-${EMPTY:-${SET}}}" => Ok::<&str, Trouble>("yes");
        required: "${NOPE?say it}" => Err::<&str, _>(Trouble::Required { name: "NOPE".into(), why: "say it".into() });
        required_and_not_empty: "${EMPTY:?}" => Err::<&str, _>(Trouble::Required { name: "EMPTY".into(), why: String::new() });
        required_and_there: "${EMPTY?}${SET:?}" => Ok::<&str, Trouble>("yes");
        an_open_brace: "${SET" => Err::<&str, _>(Trouble::Form);
        a_lonely_dollar: "5$ 6" => Ok::<&str, Trouble>("5$ 6");
        the_end_of_a_pattern: "^$SET$" => Ok::<&str, Trouble>("^yes$");
        a_digit: "$5" => Ok::<&str, Trouble>("$5");
        a_strange_form: "${SET!x}" => Err::<&str, _>(Trouble::Form);
    }

    #[test]
    fn what_grows_without_bound_is_a_mistake() {
        let deep = format!("{}x{}", "${A:-".repeat(40_000), "}".repeat(40_000));
        assert_eq!(run(&deep), Err(Trouble::Deep));
        let value = |_: &str| Some("x".repeat(1 << 16));
        let long = "$A".repeat(1_000_000);
        assert_eq!(interpolate(&long, &value, &mut Vec::new()), Err(Trouble::Long));
    }
}
