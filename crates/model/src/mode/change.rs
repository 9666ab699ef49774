//! A change of a mode as people write it: octal, or the symbolic form of POSIX chmod.

use std::fmt;
use std::str::FromStr;

use super::{Access, Mode, ModeError};

/// What a mode is changed to.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ModeChange {
    /// Exactly these bits.
    Exact(Mode),
    /// Symbolic clauses, such as `g+w,o-rwx`.
    Clauses(Vec<Clause>),
}

/// Some classes and what happens to their bits.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Clause {
    /// The letters of the classes, in the order `ugo`; none where the umask filters.
    who: Vec<char>,
    actions: Vec<(Operator, Bits)>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Operator {
    Add,
    Remove,
    Set,
}

#[derive(Clone, PartialEq, Eq, Debug)]
enum Bits {
    /// Letters of `rwxXst`, each once.
    Letters(String),
    /// The bits another class has.
    Of(char),
}

/// Which bits a class means, its set-id or sticky bit included.
const fn class(letter: char) -> u16 {
    match letter {
        'u' => 0o4700,
        'g' => 0o2070,
        _ => 0o1007,
    }
}

/// One of the three classes of a mode.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Who {
    /// The owner, `u`.
    Owner,
    /// The group, `g`.
    Group,
    /// Everyone else, `o`.
    Other,
}

impl Who {
    const fn letter(self) -> char {
        match self {
            Self::Owner => 'u',
            Self::Group => 'g',
            Self::Other => 'o',
        }
    }
}

impl ModeChange {
    /// Gives `access` to `who`, such as `g+rw`; `None` where that is nothing.
    #[must_use]
    pub fn adding(who: Who, access: Access) -> Option<Self> {
        let letters: String = access.to_string().chars().filter(|letter| *letter != '-').collect();
        let add = (Operator::Add, Bits::Letters(letters.clone()));
        let clause = Clause { who: vec![who.letter()], actions: vec![add] };
        (!letters.is_empty()).then(|| Self::Clauses(vec![clause]))
    }

    /// Exactly this mode.
    #[must_use]
    pub const fn exactly(mode: Mode) -> Self {
        Self::Exact(mode)
    }

    /// Whether it sets bits of a class with `=`.
    #[must_use]
    pub fn assigns(&self) -> bool {
        let Self::Clauses(clauses) = self else { return false };
        clauses.iter().any(|clause| clause.actions.iter().any(|(operator, _)| *operator == Operator::Set))
    }

    /// Whether it is a whole mode, as a number says it.
    #[must_use]
    pub const fn is_number(&self) -> bool {
        matches!(self, Self::Exact(_))
    }

    /// Whether it gives the group something before anything else happens.
    #[must_use]
    pub fn begins_with_the_group(&self) -> bool {
        let Self::Clauses(clauses) = self else { return false };
        clauses.first().is_some_and(|clause| {
            clause.who == ['g'] && matches!(clause.actions.first(), Some((Operator::Add, _)))
        })
    }

    /// Whether the last thing it does is to give x and nothing beside it.
    #[must_use]
    pub fn ends_with_execute(&self) -> bool {
        let Self::Clauses(clauses) = self else { return false };
        let last = clauses.last().and_then(|clause| clause.actions.last());
        matches!(last, Some((Operator::Add, Bits::Letters(letters))) if letters == "x")
    }

    /// Whether the umask decides what it does: a clause names no class.
    #[must_use]
    pub fn counts_umask(&self) -> bool {
        match self {
            Self::Exact(_) => false,
            Self::Clauses(clauses) => clauses.iter().any(|clause| clause.who.is_empty()),
        }
    }

    /// Whether it has an `X`: x only where some class has it already, or on a directory.
    #[must_use]
    pub fn spreads_execute(&self) -> bool {
        let Self::Clauses(clauses) = self else { return false };
        let mut actions = clauses.iter().flat_map(|clause| &clause.actions);
        actions.any(|(_, bits)| matches!(bits, Bits::Letters(letters) if letters.contains('X')))
    }

    /// What `mode` becomes. `umask` counts where a clause names no class, as POSIX has it; a directory's
    /// set-id bits go only where `s` or an octal mode names them.
    #[must_use]
    pub fn applied_to(&self, mode: Mode, directory: bool, umask: Mode) -> Mode {
        match self {
            Self::Exact(exact) => *exact,
            Self::Clauses(clauses) => {
                clauses.iter().fold(mode, |mode, clause| clause.applied_to(mode, directory, umask))
            }
        }
    }
}

impl Clause {
    fn applied_to(&self, mode: Mode, directory: bool, umask: Mode) -> Mode {
        let everyone = ['u', 'g', 'o'];
        let classes: &[char] = if self.who.is_empty() { &everyone } else { &self.who };
        let reach = classes.iter().fold(0, |bits, letter| bits | class(*letter));
        let mut bits = mode.bits();
        for (operator, what) in &self.actions {
            let mut named = what.bits(bits, directory) & reach;
            if self.who.is_empty() {
                named &= !umask.bits();
            }
            bits = match operator {
                Operator::Add => bits | named,
                Operator::Remove => bits & !named,
                Operator::Set => {
                    let kept = if directory && !what.names_set_id() { 0o6000 } else { 0 };
                    bits & !(reach & !kept) | named
                }
            };
        }
        Mode::new(bits)
    }
}

impl Bits {
    fn bits(&self, current: u16, directory: bool) -> u16 {
        match self {
            Self::Letters(letters) => letters.chars().fold(0, |bits, letter| {
                bits | match letter {
                    'r' => 0o444,
                    'w' => 0o222,
                    'x' => 0o111,
                    'X' if directory || current & 0o111 != 0 => 0o111,
                    's' => 0o6000,
                    't' => 0o1000,
                    _ => 0,
                }
            }),
            Self::Of(letter) => {
                let shift = match letter {
                    'u' => 6,
                    'g' => 3,
                    _ => 0,
                };
                let three = current >> shift & 7;
                three << 6 | three << 3 | three
            }
        }
    }

    fn names_set_id(&self) -> bool {
        matches!(self, Self::Letters(letters) if letters.contains('s'))
    }
}

impl FromStr for ModeChange {
    type Err = ModeError;

    /// Octal, or the symbolic form of POSIX chmod: `[ugoa...][+-=][rwxXst...|u|g|o]`, with commas between clauses.
    fn from_str(text: &str) -> Result<Self, ModeError> {
        if text.starts_with(|c: char| c.is_ascii_digit()) {
            return text.parse().map(Self::Exact);
        }
        let clauses: Option<Vec<Clause>> = text.split(',').map(clause).collect();
        clauses.map(Self::Clauses).ok_or_else(|| ModeError(text.to_owned()))
    }
}

fn clause(text: &str) -> Option<Clause> {
    let start = text.find(['+', '-', '='])?;
    let (letters, mut rest) = text.split_at(start);
    if !letters.chars().all(|letter| "ugoa".contains(letter)) {
        return None;
    }
    let who = if letters.contains('a') { "ugo".chars().collect() } else { each_once(letters, "ugo") };
    let mut actions = Vec::new();
    while let Some(sign) = rest.chars().next() {
        let operator = match sign {
            '+' => Operator::Add,
            '-' => Operator::Remove,
            _ => Operator::Set,
        };
        let end = rest[1..].find(['+', '-', '=']).map_or(rest.len(), |end| end + 1);
        actions.push((operator, bits(&rest[1..end])?));
        rest = &rest[end..];
    }
    Some(Clause { who, actions })
}

fn bits(text: &str) -> Option<Bits> {
    match text {
        "u" | "g" | "o" => text.chars().next().map(Bits::Of),
        letters if letters.chars().all(|letter| "rwxXst".contains(letter)) => {
            Some(Bits::Letters(each_once(letters, "rwxXst").into_iter().collect()))
        }
        _ => None,
    }
}

/// The letters of `known` that are in `text`, in the order of `known`.
fn each_once(text: &str, known: &str) -> Vec<char> {
    known.chars().filter(|letter| text.contains(*letter)).collect()
}

impl fmt::Display for ModeChange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Exact(mode) => mode.fmt(f),
            Self::Clauses(clauses) => {
                let texts: Vec<String> = clauses.iter().map(Clause::to_string).collect();
                f.write_str(&texts.join(","))
            }
        }
    }
}

impl fmt::Display for Clause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.who.iter().collect::<String>())?;
        for (operator, bits) in &self.actions {
            let sign = match operator {
                Operator::Add => '+',
                Operator::Remove => '-',
                Operator::Set => '=',
            };
            match bits {
                Bits::Letters(letters) => write!(f, "{sign}{letters}")?,
                Bits::Of(letter) => write!(f, "{sign}{letter}")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(text: &str, mode: u16, directory: bool) -> u16 {
        let change: ModeChange = text.parse().unwrap();
        assert_eq!(change.to_string().parse::<ModeChange>().unwrap(), change, "{text}");
        change.applied_to(Mode::new(mode), directory, Mode::new(0o022)).bits()
    }

    macro_rules! changes {
        ($($name:ident: $text:literal on $mode:literal $kind:ident => $after:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(change($text, $mode, stringify!($kind) == "dir"), $after);
            }
        )+};
    }

    changes! {
        octal_is_exact: "640" on 0o6755 file => 0o640;
        octal_takes_a_directorys_set_id_bits: "0755" on 0o2777 dir => 0o755;
        group_gets_write: "g+w" on 0o644 file => 0o664;
        several_clauses: "u=rwx,g-w,o=" on 0o4666 file => 0o740;
        several_actions_in_one_clause: "g-w+x" on 0o664 file => 0o654;
        everyone_or_nobody_named_differ_by_the_umask: "+w" on 0o444 file => 0o644;
        everyone_named: "a+w" on 0o444 file => 0o666;
        x_for_directories: "a+X" on 0o600 dir => 0o711;
        x_where_somebody_has_it: "a+X" on 0o640 file => 0o640;
        x_kept: "go+X" on 0o740 file => 0o751;
        a_class_like_another: "o=g" on 0o750 file => 0o755;
        set_group_id: "g+s" on 0o775 dir => 0o2775;
        set_group_id_of_a_directory_is_kept: "g=rx" on 0o2775 dir => 0o2755;
        set_group_id_of_a_file_is_not: "g=rx" on 0o2775 file => 0o755;
        sticky: "+t" on 0o777 dir => 0o1777;
    }

    #[test]
    fn what_is_no_change_is_refused() {
        for text in ["", "rw", "g", "z+x", "g+q", "g+w,", "0888", "g+ux", "=,"] {
            assert!(text.parse::<ModeChange>().is_err(), "{text}");
        }
    }
}
