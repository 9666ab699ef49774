//! The level of a container's security label.

use mivask_model::fact::{Fact, Provenance};
use mivask_stage::scene::LabelAsked;

/// Gives the label this level, in place of the one that is asked for or drawn.
///
/// # Errors
/// The container is told to have no label of its own.
pub(super) fn set_level(asked: &mut LabelAsked, level: &str, from: &Provenance) -> Result<(), String> {
    if asked.disabled.is_some() {
        return Err("it has no label of its own: take away what says so first".to_owned());
    }
    for whole in [&mut asked.whole, &mut asked.files].into_iter().flatten() {
        *whole = Fact::new(with_level(&whole.value, level), from.clone());
    }
    asked.level = Some(Fact::new(level.to_owned(), from.clone()));
    Ok(())
}

/// A label with another level.
#[must_use]
pub fn with_level(label: &str, level: &str) -> String {
    let parts: Vec<&str> = label.splitn(4, ':').take(3).collect();
    format!("{}:{level}", parts.join(":"))
}

/// Whether a word may be a level: the host's policy says whether it is one.
pub(super) fn is_level(text: &str) -> bool {
    let plain = |one: char| one.is_ascii_alphanumeric() || ":,.-_".contains(one);
    text.starts_with(|one: char| one.is_ascii_alphabetic()) && text.chars().all(plain)
}
