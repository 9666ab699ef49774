//! The options of the few commands that are understood, long and short.

/// A parsed command line.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Parsed<'a> {
    /// Options by the letter they mean, with their values.
    options: Vec<(char, &'a str)>,
    /// The other words.
    pub words: Vec<&'a str>,
}

impl<'a> Parsed<'a> {
    pub(super) fn has(&self, letter: char) -> bool {
        self.options.iter().any(|(known, _)| *known == letter)
    }

    /// The last value given for `letter`.
    pub(super) fn value(&self, letter: char) -> Option<&'a str> {
        self.options.iter().rev().find(|(known, _)| *known == letter).map(|(_, value)| *value)
    }
}

/// What options there are.
pub(super) struct Grammar {
    /// Letters that take a value.
    pub valued: &'static str,
    /// Letters that take none.
    pub plain: &'static str,
    /// Long names with the letter that means each.
    pub long: &'static [(&'static str, char)],
}

impl Grammar {
    /// The words behind the command's name; `None` where an option is not known here.
    pub(super) fn parse<'a>(&self, words: &[&'a str]) -> Option<Parsed<'a>> {
        let mut parsed = Parsed::default();
        let mut words = words.iter().copied();
        while let Some(word) = words.next() {
            if word == "--" {
                parsed.words.extend(words.by_ref());
            } else if let Some(long) = word.strip_prefix("--") {
                let (name, value) = long.split_once('=').map_or((long, None), |(n, v)| (n, Some(v)));
                let letter = self.long.iter().find(|(known, _)| *known == name)?.1;
                let value = match (self.valued.contains(letter), value) {
                    (true, Some(value)) => value,
                    (true, None) => words.next()?,
                    (false, None) => "",
                    (false, Some(_)) => return None,
                };
                parsed.options.push((letter, value));
            } else if let Some(cluster) = word.strip_prefix('-').filter(|cluster| !cluster.is_empty()) {
                self.cluster(cluster, &mut words, &mut parsed)?;
            } else {
                parsed.words.push(word);
            }
        }
        Some(parsed)
    }

    /// `-rm`, `-u7101`, `-mu 7101`.
    fn cluster<'a>(
        &self,
        cluster: &'a str,
        words: &mut impl Iterator<Item = &'a str>,
        parsed: &mut Parsed<'a>,
    ) -> Option<()> {
        for (at, letter) in cluster.char_indices() {
            let rest = &cluster[at + letter.len_utf8()..];
            if self.valued.contains(letter) {
                let value = if rest.is_empty() { words.next()? } else { rest };
                parsed.options.push((letter, value));
                return Some(());
            }
            if !self.plain.contains(letter) {
                return None;
            }
            parsed.options.push((letter, ""));
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const GRAMMAR: Grammar = Grammar { valued: "ug", plain: "rm", long: &[("uid", 'u'), ("system", 'r')] };

    #[test]
    fn clusters_long_names_and_values_in_every_form() {
        for words in [
            &["-rmu", "7", "a"][..],
            &["-u7", "-r", "-m", "a"],
            &["--uid=7", "a", "-rm"],
            &["--uid", "7", "--system", "-m", "a"],
        ] {
            let parsed = GRAMMAR.parse(words).unwrap();
            assert!(parsed.has('r') && parsed.has('m'), "{words:?}");
            assert_eq!((parsed.value('u'), parsed.words.as_slice()), (Some("7"), &["a"][..]));
        }
        for words in [&["-x"][..], &["--unknown"], &["-u"], &["--system=yes"]] {
            assert_eq!(GRAMMAR.parse(words), None, "{words:?}");
        }
        assert_eq!(GRAMMAR.parse(&["--", "-x"]).unwrap().words, ["-x"]);
    }
}
