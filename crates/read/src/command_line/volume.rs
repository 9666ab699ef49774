//! `volume create`: what a volume is that a later command mounts.

use super::made::{Made, text};
use super::run::Reading;
use super::words::Word;

impl Reading<'_> {
    /// `volume create`: its options are those of the project's volume.
    pub(super) fn volume(&mut self, words: &[Word]) {
        let mut options = Made::default();
        let mut driver = None;
        let mut rest = words.iter();
        while let Some(word) = rest.next() {
            let (name, value) = match word.text.split_once('=').filter(|_| word.text.starts_with("--")) {
                Some((name, value)) => (name, Some(Word { text: value.to_owned(), ..word.clone() })),
                None if word.text.starts_with('-') => (word.text.as_str(), rest.next().cloned()),
                None => {
                    let mut volume = Made::default();
                    volume.set("name", text(&word.text, &word.span));
                    if let Some(driver) = driver.take() {
                        volume.set("driver", driver);
                    }
                    volume.set("driver_opts", std::mem::take(&mut options).node(word.span.clone()));
                    self.volumes.set(&word.text, volume.node(word.span.clone()));
                    return;
                }
            };
            let Some(value) = value else { continue };
            match name {
                "--opt" | "-o" => {
                    if let Some((key, set)) = value.text.split_once('=') {
                        options.set(key, text(set, &value.span));
                    }
                }
                "--driver" | "-d" => driver = Some(text(&value.text, &value.span)),
                _ => {}
            }
        }
    }
}
