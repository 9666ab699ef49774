//! Sets of small numbers: types of an attribute, roles of a user, categories of a level.

/// A set of numbers from 0, kept as those words of 64 bits that have any.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Bitmap {
    words: Vec<(u32, u64)>,
}

impl Bitmap {
    /// A set from words, each with its number (bit 0 of word 1 is 64); sorted, none empty.
    pub(crate) const fn from_words(words: Vec<(u32, u64)>) -> Self {
        Self { words }
    }

    /// Whether nothing is in the set.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.words.is_empty()
    }

    /// Whether `number` is in the set.
    #[must_use]
    pub fn contains(&self, number: u32) -> bool {
        self.words
            .binary_search_by_key(&(number / 64), |&(word, _)| word)
            .is_ok_and(|place| self.words[place].1 >> (number % 64) & 1 == 1)
    }

    /// Adds `number`.
    pub fn insert(&mut self, number: u32) {
        let bit = 1 << (number % 64);
        match self.words.binary_search_by_key(&(number / 64), |&(word, _)| word) {
            Ok(place) => self.words[place].1 |= bit,
            Err(place) => self.words.insert(place, (number / 64, bit)),
        }
    }

    /// The numbers, in order.
    pub fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        self.words.iter().flat_map(|&(word, bits)| {
            std::iter::successors(Some(bits), |bits| Some(bits & bits.wrapping_sub(1)))
                .take_while(|&bits| bits != 0)
                .map(move |bits| word * 64 + bits.trailing_zeros())
        })
    }

    /// Whether all of `other` is in the set.
    #[must_use]
    pub fn contains_all(&self, other: &Self) -> bool {
        let mut mine = self.words.iter();
        other.words.iter().all(|&(number, bits)| {
            mine.by_ref()
                .find(|&&(word, _)| word >= number)
                .is_some_and(|&(word, own)| word == number && bits & !own == 0)
        })
    }

    /// What is in both sets.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        let words = self.words.iter().filter_map(|&(number, bits)| {
            let place = other.words.binary_search_by_key(&number, |&(word, _)| word).ok()?;
            let both = bits & other.words[place].1;
            (both != 0).then_some((number, both))
        });
        Self { words: words.collect() }
    }

    /// The largest number.
    #[must_use]
    pub fn last(&self) -> Option<u32> {
        self.words.last().map(|&(word, bits)| word * 64 + 63 - bits.leading_zeros())
    }
}

impl FromIterator<u32> for Bitmap {
    fn from_iter<I: IntoIterator<Item = u32>>(numbers: I) -> Self {
        let mut set = Self::default();
        numbers.into_iter().for_each(|number| set.insert(number));
        set
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_hold_what_was_put_in() {
        let numbers = [0, 63, 64, 1023, 70_000];
        let set: Bitmap = numbers.into_iter().rev().collect();
        assert_eq!(set.iter().collect::<Vec<_>>(), numbers);
        assert!(set.contains(63) && !set.contains(62) && !set.contains(65));
        assert_eq!(set.last(), Some(70_000));
        assert_eq!(Bitmap::default().last(), None);
    }

    #[test]
    fn subsets_and_intersections() {
        let set = |numbers: &[u32]| numbers.iter().copied().collect::<Bitmap>();
        let big = set(&[1, 64, 130, 200]);
        assert!(big.contains_all(&set(&[64, 200])) && big.contains_all(&set(&[])) && big.contains_all(&big));
        assert!(
            !big.contains_all(&set(&[64, 65]))
                && !big.contains_all(&set(&[1, 500]))
                && !set(&[]).contains_all(&big)
        );
        assert_eq!(big.and(&set(&[64, 131, 200, 900])), set(&[64, 200]));
        assert!(big.and(&set(&[2])).is_empty());
    }
}
