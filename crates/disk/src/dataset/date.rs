//! The day of a survey.

use std::time::{SystemTime, UNIX_EPOCH};

/// Today in UTC, `YYYY-MM-DD`.
#[must_use]
pub fn today() -> String {
    let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    day(seconds / 86_400)
}

/// Whether a text is a date of that form; folders of a dataset are named by it.
#[must_use]
pub fn is_date(text: &str) -> bool {
    let bytes = text.as_bytes();
    let number = |from: usize, to: usize| text.get(from..to).and_then(|part| part.parse::<u32>().ok());
    let shape = bytes.len() == 10 && bytes[4] == b'-' && bytes[7] == b'-';
    shape
        && bytes.iter().enumerate().all(|(at, byte)| at == 4 || at == 7 || byte.is_ascii_digit())
        && number(5, 7).is_some_and(|month| (1..=12).contains(&month))
        && number(8, 10).is_some_and(|day| (1..=31).contains(&day))
}

/// The date of a day since 1970-01-01 (the civil calendar, as in ISO 8601).
fn day(since: u64) -> String {
    // Years begin in March here, so that a leap day is the last of one.
    let shifted = since + 719_468;
    let (era, of_era) = (shifted / 146_097, shifted % 146_097);
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    let year = era * 400 + year + u64::from(month <= 2);
    format!("{year:04}-{month:02}-{day:02}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_of_the_calendar() {
        let days = [(0, "1970-01-01"), (59, "1970-03-01"), (11_016, "2000-02-29"), (20_788, "2026-12-01")];
        for (since, date) in days {
            assert_eq!(day(since), date);
        }
        assert!(is_date(&today()));
        for text in ["", "2026-13-01", "2026-1-01", "2026-12-00", "2026/12/01", "../../../..", "+026-12-01"] {
            assert!(!is_date(text), "{text}");
        }
    }
}
