//! What `%i` and its like stand for in a unit (systemd.unit(5), Specifiers).

use super::super::words::Word;

/// The name of a unit file, taken apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Name {
    /// The file's own name: `gauge@west.container`.
    pub file: String,
    /// Without its ending: `gauge@west`.
    pub stem: String,
    /// The ending: `container`.
    pub ending: String,
}

impl Name {
    /// Of a path, as the user wrote it.
    pub(super) fn of(path: &str) -> Self {
        let file = path.rsplit('/').next().unwrap_or(path);
        let (stem, ending) = file.rsplit_once('.').unwrap_or((file, ""));
        Self { file: file.to_owned(), stem: stem.to_owned(), ending: ending.to_owned() }
    }

    /// What is before the `@`.
    pub(super) fn prefix(&self) -> &str {
        self.stem.split_once('@').map_or(&self.stem, |(prefix, _)| prefix)
    }

    /// What is behind the `@`: nothing in a template, which is started under other names.
    pub(super) fn instance(&self) -> Option<&str> {
        self.stem.split_once('@').map(|(_, instance)| instance).filter(|instance| !instance.is_empty())
    }

    /// Whether it is a template.
    pub(super) fn is_template(&self) -> bool {
        self.stem.ends_with('@')
    }
}

/// What specifiers are to the system's own manager.
const SYSTEM: [(char, &str); 10] = [
    ('h', "/root"),
    ('t', "/run"),
    ('S', "/var/lib"),
    ('C', "/var/cache"),
    ('L', "/var/log"),
    ('E', "/etc"),
    ('U', "0"),
    ('G', "0"),
    ('u', "root"),
    ('g', "root"),
];

/// Puts what is known in place of specifiers; a word with another one is not known.
pub(super) fn expand(word: &mut Word, name: &Name, system: bool) {
    let mut out = String::new();
    let text = std::mem::take(&mut word.text);
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        if letter != '%' {
            out.push(letter);
            continue;
        }
        let Some(which) = letters.next() else {
            out.push('%');
            break;
        };
        let service = || format!("{}.service", name.stem);
        let value = match which {
            '%' => Some("%".to_owned()),
            'n' => Some(service()),
            'N' => Some(name.stem.clone()),
            'p' | 'P' => Some(name.prefix().to_owned()),
            'i' | 'I' if name.is_template() => None,
            'i' | 'I' => Some(name.instance().unwrap_or_default().to_owned()),
            'j' | 'J' => name.prefix().rsplit('-').next().map(str::to_owned),
            'T' => Some("/tmp".to_owned()),
            'V' => Some("/var/tmp".to_owned()),
            _ => SYSTEM
                .iter()
                .find(|(known, _)| system && *known == which)
                .map(|(_, value)| (*value).to_owned()),
        };
        match value {
            Some(value) => out.push_str(&value),
            None => {
                let shown = format!("%{which}");
                out.push_str(&shown);
                word.unknown.get_or_insert(shown);
            }
        }
    }
    word.text = out;
}

#[cfg(test)]
mod tests {
    use super::{Name, expand};
    use crate::command_line::words::Word;

    fn expanded(text: &str, file: &str) -> (String, Option<String>) {
        let mut word = Word { text: text.to_owned(), ..Word::default() };
        expand(&mut word, &Name::of(file), file.starts_with("/etc"));
        (word.text, word.unknown)
    }

    #[test]
    fn what_is_known_is_put_in() {
        let known = |text: &str| expanded(text, "/etc/containers/systemd/tide-gauge@west.container").0;
        assert_eq!(known("/srv/%i/%p/%j/%N.%%"), "/srv/west/tide-gauge/gauge/tide-gauge@west.%");
        assert_eq!(known("%n %h %S %t"), "tide-gauge@west.service /root /var/lib /run");
    }

    #[test]
    fn a_template_is_started_under_names_that_nobody_knows() {
        assert_eq!(expanded("/srv/%i", "gauge@.container"), ("/srv/%i".to_owned(), Some("%i".to_owned())));
        assert_eq!(expanded("%H", "/etc/containers/systemd/gauge.container").1, Some("%H".to_owned()));
        // Whose manager starts a unit that lies anywhere is not known.
        assert_eq!(expanded("%h", "gauge.container").1, Some("%h".to_owned()));
        assert_eq!(expanded("x%i", "gauge.container").0, "x");
    }
}
