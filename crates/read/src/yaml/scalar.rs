//! What an unquoted scalar means (docs/facts/kubelet.md section 11: YAML 1.1 as the API server reads it).

/// The meaning of a scalar.
#[derive(Clone, Copy, PartialEq, Debug)]
pub enum Scalar {
    /// Nothing.
    Null,
    /// A truth value.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// Any other number.
    Float(f64),
    /// Text.
    Text,
}

/// What `text` means when it is not quoted.
#[must_use]
pub fn resolve(text: &str) -> Scalar {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => return Scalar::Null,
        "y" | "Y" | "yes" | "Yes" | "YES" | "true" | "True" | "TRUE" | "on" | "On" | "ON" => {
            return Scalar::Bool(true);
        }
        "n" | "N" | "no" | "No" | "NO" | "false" | "False" | "FALSE" | "off" | "Off" | "OFF" => {
            return Scalar::Bool(false);
        }
        _ => {}
    }
    let first = text.as_bytes()[0];
    if !(first.is_ascii_digit() || matches!(first, b'+' | b'-' | b'.')) {
        return Scalar::Text;
    }
    let digits = text.replace('_', "");
    if let Some(number) = integer(&digits) {
        return Scalar::Int(number);
    }
    let plausible =
        digits.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'+' | b'-' | b'.' | b'e' | b'E'));
    match digits.parse::<f64>() {
        Ok(number) if plausible => Scalar::Float(number),
        Ok(_) | Err(_) => Scalar::Text,
    }
}

/// Decimal, `0x`, `0b`, `0o` and, with a leading zero, octal.
fn integer(text: &str) -> Option<i64> {
    let (negative, digits) = match text.as_bytes().first()? {
        b'-' => (true, &text[1..]),
        b'+' => (false, &text[1..]),
        _ => (false, text),
    };
    let parse = |digits: &str, radix| {
        let plain = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_alphanumeric());
        plain.then(|| i64::from_str_radix(digits, radix).ok()).flatten()
    };
    let prefixed = [("0x", 16), ("0b", 2), ("0o", 8)];
    let value =
        match prefixed.into_iter().find_map(|(prefix, radix)| Some((digits.strip_prefix(prefix)?, radix))) {
            Some((rest, radix)) => parse(rest, radix)?,
            None if digits.len() > 1 && digits.starts_with('0') => {
                parse(digits, 8).or_else(|| parse(digits, 10))?
            }
            None => parse(digits, 10)?,
        };
    Some(if negative { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::*;

    macro_rules! read_as {
        ($($name:ident: $($text:literal),+ => $scalar:expr;)+) => {$(
            #[test]
            fn $name() {
                $(assert_eq!(resolve($text), $scalar, "{}", $text);)+
            }
        )+};
    }

    read_as! {
        two_hundred_fifty_six: "0400", "0o400", "00400", "256", "+256", "0x100", "0b100000000", "0_400" => Scalar::Int(256);
        the_same_as_floats: "256.0", "2.56e2" => Scalar::Float(256.0);
        a_decimal_by_mistake: "400" => Scalar::Int(400);
        no_octal_digits: "0888" => Scalar::Int(888);
        separators: "1_000" => Scalar::Int(1000);
        no_base_sixty: "60:30", "1.2.3", "inf", "-", "+", ".", "0x", "1e", "-.inf" => Scalar::Text;
        truth: "true", "yes", "on", "y", "True", "TRUE" => Scalar::Bool(true);
        nothing: "~", "null", "" => Scalar::Null;
        negative: "-1" => Scalar::Int(-1);
    }
}
