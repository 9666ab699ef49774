//! What someone meant who wrote a mode that is none: the usual slips, each with the right form.

use super::{Mode, ModeChange};

/// Modes that people use: where a number makes one of these in decimal and none in octal, it was meant so.
pub(super) const COMMON: [u16; 19] = [
    0o400, 0o440, 0o444, 0o600, 0o640, 0o644, 0o660, 0o664, 0o666, 0o700, 0o711, 0o750, 0o755, 0o770, 0o775,
    0o777, 0o1777, 0o2770, 0o2775,
];

/// What is wrong with `text`, and what to write instead; `None` where no slip is recognised.
pub(super) fn slip(text: &str) -> Option<String> {
    words(text).or_else(|| digits(text)).or_else(|| letters(text)).or_else(|| classes(text))
}

/// Clauses that are apart: `g+w o-r`.
fn words(text: &str) -> Option<String> {
    let words: Vec<&str> = text.split_whitespace().collect();
    let joined = words.join(",");
    let clauses = words.len() > 1 && joined.parse::<ModeChange>().is_ok();
    clauses.then(|| format!("clauses are one word with commas: write `{joined}`"))
}

/// A digit that octal does not have, or too many of them.
fn digits(text: &str) -> Option<String> {
    let digits = text.strip_prefix("0o").unwrap_or(text);
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    if let Some(mode) = in_decimal(text) {
        return Some(format!("in decimal it would be {mode}: write that"));
    }
    Some(match digits.chars().find(|digit| matches!(digit, '8' | '9')) {
        Some(digit) => {
            format!("{digit} is not an octal digit: each is a sum of 4 (r), 2 (w) and 1 (x), at most 7")
        }
        None => {
            "a mode has four octal digits at most: set-id and sticky bits, owner, group and others".to_owned()
        }
    })
}

/// The mode that `text` is in decimal, where that is a common one and what it says in octal is not.
#[must_use]
pub(super) fn in_decimal(text: &str) -> Option<Mode> {
    if text.starts_with('0') || text.len() < 3 {
        return None;
    }
    let common = |bits: u16| COMMON.contains(&bits);
    let octal = u16::from_str_radix(text, 8).is_ok_and(common);
    let decimal = text.parse().ok().filter(|bits| common(*bits) && !octal);
    decimal.map(Mode::new)
}

/// Letters of a listing of which some are missing or stand in the wrong place.
fn letters(text: &str) -> Option<String> {
    let listed = |c: char| matches!(c, 'r' | 'w' | 'x' | '-' | 's' | 'S' | 't' | 'T');
    let count = text.chars().count();
    if count < 3 || !text.chars().all(listed) || !text.contains(['r', 'w', 'x']) {
        return None;
    }
    let padded = format!("{text:-<9}");
    let fits = Mode::of_letters(padded.as_bytes()).is_some();
    Some(match count {
        9 | 10 => "in each class r comes first, then w, then x, with `-` for what is missing".to_owned(),
        3 if fits => format!(
            "three letters are one class of three: write nine, such as `{text}r-x---`, or `u={}`",
            only(text)
        ),
        1..9 if fits => format!("it has {count} of nine letters, three for each class: `{padded}`?"),
        _ => {
            format!("it has {count} letters, and nine are needed: three for each of owner, group and others")
        }
    })
}

fn only(text: &str) -> String {
    text.chars().filter(|letter| *letter != '-').collect()
}

/// Classes as words or in capitals, permissions in capitals: `owner+x`, `U+W`.
fn classes(text: &str) -> Option<String> {
    let clause = |clause: &str| {
        let at = clause.find(['+', '-', '='])?;
        let (who, what) = clause.split_at(at);
        let who = match who.to_lowercase().as_str() {
            "user" | "owner" => "u".to_owned(),
            "group" => "g".to_owned(),
            "other" | "others" | "world" => "o".to_owned(),
            "all" | "everyone" | "everybody" => "a".to_owned(),
            short => short.to_owned(),
        };
        let small = |letter: char| if matches!(letter, 'X') { letter } else { letter.to_ascii_lowercase() };
        Some(who + &what.chars().map(small).collect::<String>())
    };
    let meant = text.split(',').map(clause).collect::<Option<Vec<_>>>()?.join(",");
    let change = meant != text && meant.parse::<ModeChange>().is_ok();
    change.then(|| format!("classes are u (owner), g, o (others) and a, in small letters: write `{meant}`"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_slip_is_told_and_nothing_else() {
        for (text, expected) in [
            ("U+x", "write `u+x`"),
            ("owner+x", "write `u+x`"),
            ("o+R", "write `o+r`"),
            ("o+T", "write `o+t`"),
            ("others-w,Group=RX", "write `o-w,g=rX`"),
            ("everyone=r", "write `a=r`"),
            ("888", "8 is not an octal digit"),
            ("0798", "9 is not an octal digit"),
            ("493", "in decimal it would be 0755"),
            ("77777", "four octal digits at most"),
            ("rw-rw-r-", "8 of nine letters, three for each class: `rw-rw-r--`?"),
            ("rwx", "write nine, such as `rwxr-x---`, or `u=rwx`"),
            ("wr-r--r--", "r comes first"),
            ("rwxrwxrwxrwx", "12 letters, and nine"),
            ("g+w o-r", "write `g+w,o-r`"),
            ("u=rwx go=rx", "write `u=rwx,go=rx`"),
        ] {
            let said = slip(text);
            assert!(said.as_deref().is_some_and(|said| said.contains(expected)), "{text}: {said:?}");
        }
        for text in ["z+x", "", "+", "notes", "-", "u+q", "x"] {
            assert_eq!(slip(text), None, "{text}");
        }
    }

    #[test]
    fn a_number_is_decimal_where_only_that_makes_sense() {
        let decimal = |text| in_decimal(text).map(Mode::bits);
        assert_eq!((decimal("420"), decimal("493"), decimal("288")), (Some(0o644), Some(0o755), Some(0o440)));
        // 0700 in decimal is 448; 700 is no common mode there.
        assert_eq!(
            (decimal("448"), decimal("700"), decimal("0420"), decimal("640")),
            (Some(0o700), None, None, None)
        );
    }
}
