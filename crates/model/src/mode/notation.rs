//! A mode as people write it: octal, nine letters, or POSIX clauses.

use std::str::FromStr;

use super::slip::slip;
use super::{FileKind, Mode, ModeChange, symbolic};

/// A mode that someone wrote, and the kind of file its first letter names.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Written {
    /// The twelve bits.
    pub mode: Mode,
    /// What the first letter of a long listing says, such as `d`.
    pub kind: Option<FileKind>,
}

/// A text that is not a mode in any form.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{}", self.said())]
pub struct NotationError(pub String);

impl NotationError {
    fn said(&self) -> String {
        let forms = "write octal (0750, 100644), letters (rwxr-x---, drwxr-s---) or clauses (u=rwx,g=rx,o=)";
        let help = slip(&self.0).unwrap_or_else(|| forms.to_owned());
        format!("`{}` is not a mode: {help}", self.0)
    }
}

/// The part of `st_mode` that says what kind a file is, `0170000`.
const KINDS: u32 = 0o170_000;

impl FromStr for Written {
    type Err = NotationError;

    /// Octal with or without the kind's digits (`0750`, `100644`), letters with or without the kind's
    /// (`rwxr-x---`, `drwxr-s---`; a `+` or `.` behind them is passed over), or clauses that set every class from
    /// nothing (`u=rwx,g=rx,o=`).
    fn from_str(text: &str) -> Result<Self, NotationError> {
        let refused = || NotationError(text.to_owned());
        if let Ok(mode) = text.parse() {
            return Ok(Self { mode, kind: None });
        }
        if let Some(found) = raw(text) {
            return Ok(found);
        }
        let letters = text.strip_suffix(['+', '.', '@']).unwrap_or(text).as_bytes();
        if let Some(mode) = Mode::of_letters(letters) {
            return Ok(Self { mode, kind: None });
        }
        if let Some((first, nine)) = letters.split_first()
            && let (Some(kind), Some(mode)) = (FileKind::of_letter(*first), Mode::of_letters(nine))
        {
            return Ok(Self { mode, kind: Some(kind) });
        }
        let change: ModeChange = text.parse().map_err(|_| refused())?;
        Ok(Self { mode: change.applied_to(Mode::default(), false, Mode::default()), kind: None })
    }
}

/// `st_mode` in octal, such as `100644`: a kind and twelve bits.
fn raw(text: &str) -> Option<Written> {
    let digits = text.strip_prefix("0o").unwrap_or(text);
    if !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let bits = u32::from_str_radix(digits, 8).ok()?;
    let kind = match bits & KINDS {
        0o100_000 => FileKind::File,
        0o040_000 => FileKind::Directory,
        0o120_000 => FileKind::Link,
        0o010_000 => FileKind::Fifo,
        0o140_000 => FileKind::Socket,
        0o020_000 => FileKind::CharDevice,
        0o060_000 => FileKind::BlockDevice,
        _ => return None,
    };
    let mode = u16::try_from(bits & !KINDS).ok().filter(|bits| *bits <= 0o7777)?;
    Some(Written { mode: Mode::new(mode), kind: Some(kind) })
}

impl FileKind {
    /// The kind that a long listing begins with this letter.
    #[must_use]
    pub fn of_letter(letter: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.letter() == char::from(letter))
    }
}

impl Mode {
    /// The bits of nine letters such as `rwxr-s--T`.
    #[must_use]
    pub fn of_letters(letters: &[u8]) -> Option<Self> {
        if letters.len() != 9 {
            return None;
        }
        let mut nine = 0;
        let mut special = 0;
        for (class, three) in letters.chunks(3).enumerate() {
            let (with_x, without_x) = if class == 2 { (b't', b'T') } else { (b's', b'S') };
            let [r, w, x] = [three[0], three[1], three[2]];
            let fits = matches!(r, b'r' | b'-')
                && matches!(w, b'w' | b'-')
                && (matches!(x, b'x' | b'-') || x == with_x || x == without_x);
            if !fits {
                return None;
            }
            let bit = |set: bool, value: u16| if set { value } else { 0 };
            nine = nine << 3 | bit(r == b'r', 4) | bit(w == b'w', 2) | bit(x == b'x' || x == with_x, 1);
            special = special << 1 | bit(x == with_x || x == without_x, 1);
        }
        let bits: u16 = special << 9 | nine;
        Some(Self::new(bits))
    }

    /// The bits as clauses that name these alone, such as `u=x,g=w`: empty where there is none.
    #[must_use]
    pub fn named(self, sign: char) -> String {
        let all = self.clauses();
        let some = all.split(',').filter(|clause| !clause.ends_with('='));
        some.map(|clause| clause.replacen('=', &sign.to_string(), 1)).collect::<Vec<_>>().join(",")
    }

    /// The same bits as clauses of POSIX chmod that set all of them: `u=rwx,g=rxs,o=`.
    #[must_use]
    pub fn clauses(self) -> String {
        let nine = symbolic(FileKind::File, self);
        let classes = [("u", &nine[1..4]), ("g", &nine[4..7]), ("o", &nine[7..10])];
        let clause = |(class, letters): (&str, &str)| {
            let plain = letters.chars().flat_map(|letter| match letter {
                's' => "xs".chars(),
                'S' => "s".chars(),
                't' => "xt".chars(),
                'T' => "t".chars(),
                '-' => "".chars(),
                'r' => "r".chars(),
                'w' => "w".chars(),
                _ => "x".chars(),
            });
            format!("{class}={}", plain.collect::<String>())
        };
        classes.map(clause).join(",")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_mode_reads_back_from_each_of_its_forms() {
        for bits in 0..=0o7777 {
            let mode = Mode::new(bits);
            let letters = symbolic(FileKind::Directory, mode);
            assert_eq!(Mode::of_letters(&letters.as_bytes()[1..]), Some(mode), "{letters}");
            let kind = Some(FileKind::Directory);
            assert_eq!(letters.parse(), Ok(Written { mode, kind }), "{letters}");
            for text in [mode.clauses(), mode.to_string(), letters[1..].to_owned()] {
                assert_eq!(text.parse(), Ok(Written { mode, kind: None }), "{text}");
            }
        }
    }

    #[test]
    fn the_kind_is_read_where_it_stands() {
        let read = |text: &str| text.parse::<Written>().map(|found| (found.mode.bits(), found.kind));
        assert_eq!(read("100644"), Ok((0o644, Some(FileKind::File))));
        assert_eq!(read("0042750"), Ok((0o2750, Some(FileKind::Directory))));
        assert_eq!(read("drwxr-s---+"), Ok((0o2750, Some(FileKind::Directory))));
        assert_eq!(read("lrwxrwxrwx"), Ok((0o777, Some(FileKind::Link))));
        assert_eq!(read("g+w"), Ok((0o020, None)));
        for text in
            ["", "rwx", "xrwrwxrwx", "rwxrwxrwz", "rwxrwxrws", "888", "0200644", "hello", "999999999999"]
        {
            assert!(text.parse::<Written>().is_err(), "{text}");
        }
    }
}
