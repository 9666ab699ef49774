//! The rules of types: what is allowed, what is not logged, and which type something new gets (kernel: `avtab.c`,
//! `conditional.c`).

use rustc_hash::FxHashMap;

use super::symbols::Symbols;
use crate::bytes::{Bytes, PolicyError};

/// What a rule is about: source type, target type (either may be an attribute), class.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Key(u64);

impl Key {
    pub(crate) fn new(source: u32, target: u32, class: u16) -> Self {
        Self(u64::from(source & 0xffff) << 32 | u64::from(target & 0xffff) << 16 | u64::from(class))
    }
}

/// The permissions of one key.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Allowed {
    pub(crate) allowed: u32,
    /// What is logged when it is denied: all but what `dontaudit` names.
    pub(crate) logged: u32,
}

impl Allowed {
    const NONE: Self = Self { allowed: 0, logged: u32::MAX };
}

/// What a rule of a condition says.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Said {
    Allow(u32),
    Quiet(u32),
    NewType(u32),
}

/// A rule that holds while its condition has one result.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Conditional {
    pub(crate) condition: u32,
    pub(crate) when: bool,
    pub(crate) said: Said,
}

/// A word of a condition, operands before operators.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Word {
    Boolean(u32),
    Not,
    Or,
    And,
    Xor,
    Same,
    Other,
}

/// All rules.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rules {
    pub(crate) allowed: FxHashMap<Key, Allowed>,
    pub(crate) new_types: FxHashMap<Key, u32>,
    /// Sorted by key; where those of a key begin and end is in `places`.
    conditional: Vec<(Key, Conditional)>,
    places: FxHashMap<Key, (u32, u32)>,
    pub(crate) conditions: Vec<Vec<Word>>,
    /// The result of each condition; `None` where its expression has none.
    pub(crate) results: Vec<Option<bool>>,
    /// How many rules of any kind were read.
    pub(crate) count: usize,
}

/// Reads the unconditional rules.
pub(crate) fn read(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<Rules, PolicyError> {
    let count = bytes.count(12, "the rules")?;
    let mut rules = Rules::default();
    rules.allowed.reserve(count);
    for _ in 0..count {
        let (key, said) = rule(bytes, symbols)?;
        match said {
            Some(Said::Allow(permissions)) => {
                rules.allowed.entry(key).or_insert(Allowed::NONE).allowed |= permissions
            }
            Some(Said::Quiet(logged)) => rules.allowed.entry(key).or_insert(Allowed::NONE).logged &= logged,
            Some(Said::NewType(new)) => drop(rules.new_types.insert(key, new)),
            None => {}
        }
    }
    rules.count = count;
    Ok(rules)
}

/// Reads the rules of conditions.
pub(crate) fn read_conditional(
    bytes: &mut Bytes<'_>,
    rules: &mut Rules,
    symbols: &Symbols,
) -> Result<(), PolicyError> {
    const WHAT: &str = "a condition";
    let count = bytes.count(16, WHAT)?;
    for _ in 0..count {
        let _state_when_written = bytes.u32(WHAT)?;
        let length = bytes.count(8, WHAT)?;
        let words = (0..length).map(|_| word(bytes, symbols)).collect::<Result<Vec<_>, _>>()?;
        let condition =
            u32::try_from(rules.conditions.len()).map_err(|_| bytes.bad("too many conditions"))?;
        rules.conditions.push(words);
        for when in [true, false] {
            let count = bytes.count(12, WHAT)?;
            rules.count += count;
            for _ in 0..count {
                let (key, said) = rule(bytes, symbols)?;
                let Some(said) = said else { continue };
                rules.conditional.push((key, Conditional { condition, when, said }));
            }
        }
    }
    rules.index();
    Ok(())
}

fn word(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<Word, PolicyError> {
    let (kind, boolean) = (bytes.u32("a condition")?, bytes.u32("a condition")?);
    Ok(match kind {
        1 => match super::symbols::index(boolean).filter(|&index| index < symbols.booleans.len()) {
            Some(_) => Word::Boolean(boolean - 1),
            None => return Err(bytes.bad("a condition on a boolean that is not there")),
        },
        2 => Word::Not,
        3 => Word::Or,
        4 => Word::And,
        5 => Word::Xor,
        6 => Word::Same,
        7 => Word::Other,
        _ => return Err(bytes.bad("a word of a condition that is none")),
    })
}

/// One rule; `None` if it is about nothing that is asked of this crate (`auditallow`, `type_member`, `type_change`,
/// rules of single `ioctl` commands).
fn rule(bytes: &mut Bytes<'_>, symbols: &Symbols) -> Result<(Key, Option<Said>), PolicyError> {
    const WHAT: &str = "a rule";
    const ENABLED: u16 = 0x8000;
    let (source, target) = (u32::from(bytes.u16(WHAT)?), u32::from(bytes.u16(WHAT)?));
    let (class, kind) = (bytes.u16(WHAT)?, bytes.u16(WHAT)? & !ENABLED);
    let known = symbols.type_names.has(source)
        && symbols.type_names.has(target)
        && symbols.class_names.has(class.into());
    if !known {
        return Err(bytes.bad("a rule about a type or class that is not there"));
    }
    let said = match kind {
        0x100 | 0x200 | 0x400 => {
            bytes.take(2 + 32, WHAT)?;
            None
        }
        1 => Some(Said::Allow(bytes.u32(WHAT)?)),
        4 => Some(Said::Quiet(bytes.u32(WHAT)?)),
        0x10 => match bytes.u32(WHAT)? {
            new if symbols.type_names.has(new) => Some(Said::NewType(new)),
            _ => return Err(bytes.bad("a rule that gives a type that is not there")),
        },
        2 | 0x20 | 0x40 => {
            bytes.u32(WHAT)?;
            None
        }
        _ => return Err(bytes.bad("a rule of a kind that there is not")),
    };
    Ok((Key::new(source, target, class), said))
}

impl Rules {
    /// Notes where the conditional rules of each key are.
    fn index(&mut self) {
        self.conditional.sort_by_key(|(key, _)| *key);
        self.places.reserve(self.conditional.len());
        let mut start = 0_u32;
        for rules in self.conditional.chunk_by(|(one, _), (other, _)| one == other) {
            let end = start + u32::try_from(rules.len()).unwrap_or(0);
            self.places.insert(rules[0].0, (start, end));
            start = end;
        }
    }

    /// All rules of conditions about `key`, whether these hold or not.
    pub(crate) fn under_conditions(&self, key: Key) -> impl Iterator<Item = &Conditional> {
        let place = |place: u32| usize::try_from(place).unwrap_or(0);
        let rules =
            self.places.get(&key).and_then(|&(start, end)| self.conditional.get(place(start)..place(end)));
        rules.unwrap_or_default().iter().map(|(_, rule)| rule)
    }

    /// Works out every condition anew (kernel: `evaluate_cond_nodes`).
    pub(crate) fn settle(&mut self, symbols: &Symbols) {
        self.results = self.conditions.iter().map(|words| result(words, symbols)).collect();
    }

    /// What the conditions that hold say of `key`.
    pub(crate) fn conditional(&self, key: Key) -> impl Iterator<Item = Said> + '_ {
        let holds = |rule: &&Conditional| {
            let place = usize::try_from(rule.condition).unwrap_or(usize::MAX);
            self.results.get(place).copied().flatten() == Some(rule.when)
        };
        self.under_conditions(key).filter(holds).map(|rule| rule.said)
    }
}

/// The result of a condition (kernel: `cond_evaluate_expr`).
fn result(words: &[Word], symbols: &Symbols) -> Option<bool> {
    let mut stack: Vec<bool> = Vec::new();
    for word in words {
        let value = match word {
            Word::Boolean(place) => symbols.booleans.get(usize::try_from(*place).ok()?)?.on,
            Word::Not => !stack.pop()?,
            Word::Or | Word::And | Word::Xor | Word::Same | Word::Other => {
                let (second, first) = (stack.pop()?, stack.pop()?);
                match word {
                    Word::Or => first | second,
                    Word::And => first & second,
                    Word::Same => first == second,
                    Word::Xor | Word::Other | Word::Not | Word::Boolean(_) => first != second,
                }
            }
        };
        // The kernel's COND_EXPR_MAXDEPTH.
        if stack.len() == 10 {
            return None;
        }
        stack.push(value);
    }
    stack.pop().filter(|_| stack.is_empty())
}
