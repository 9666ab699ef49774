//! Reading passwd and group files as the container runtimes do (docs/facts/runtimes.md 1.4).
//!
//! The runtimes' parsers forgive everything: a field that is missing or no number is 0, a comment is
//! an account, and only blank lines vanish.

use std::sync::Arc;

use mivask_core::accounts::{GroupLine, UserLine};
use mivask_core::fact::Provenance;

/// Reads a passwd file.
#[must_use]
pub fn passwd(name: &str, text: &str) -> Vec<UserLine> {
    let file: Arc<str> = Arc::from(name);
    account_lines(text)
        .map(|(line, fields)| {
            let (uid, wrapped) = number(fields.get(2));
            let (gid, _) = number(fields.get(3));
            let from = Provenance::Line { file: file.clone(), line };
            UserLine { name: fields[0].to_owned(), uid, wrapped, gid, from }
        })
        .collect()
}

/// Reads a group file.
#[must_use]
pub fn group(name: &str, text: &str) -> Vec<GroupLine> {
    let file: Arc<str> = Arc::from(name);
    // A comment here is none in passwd, where such a line is an account (docs/facts/runtimes.md section 14).
    account_lines(text)
        .filter(|(_, fields)| !fields[0].starts_with('#'))
        .map(|(line, fields)| {
            let members = fields.get(3).copied().unwrap_or_default();
            let (gid, wrapped) = number(fields.get(2));
            GroupLine {
                name: fields[0].to_owned(),
                gid,
                wrapped,
                members: members.split(',').filter(|member| !member.is_empty()).map(str::to_owned).collect(),
                from: Provenance::Line { file: file.clone(), line },
            }
        })
        .collect()
}

fn account_lines(text: &str) -> impl Iterator<Item = (usize, Vec<&str>)> {
    let numbered = text.lines().enumerate().map(|(index, line)| (index + 1, line.trim()));
    numbered.filter(|(_, line)| !line.is_empty()).map(|(number, line)| (number, line.split(':').collect()))
}

/// Decimal with an optional sign; anything else is 0. Larger numbers wrap at 32 bits, and are given as they are beside that.
fn number(field: Option<&&str>) -> (u32, Option<i64>) {
    let text = field.copied().unwrap_or_default();
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "the runtimes wrap at 32 bits too"
    )]
    text.parse::<i64>()
        .map_or((0, None), |number| (number as u32, u32::try_from(number).is_err().then_some(number)))
}

#[cfg(test)]
mod tests {
    use super::*;

    macro_rules! accounts {
        ($($name:ident: $line:literal => $user:literal $uid:literal $gid:literal;)+) => {$(
            #[test]
            fn $name() {
                let file = passwd("passwd", $line);
                let line = &file[0];
                assert_eq!((line.name.as_str(), line.uid, line.gid), ($user, $uid, $gid));
            }
        )+};
    }

    accounts! {
        an_ordinary_line: "gauge:x:7101:7200::/:/bin/sh\r\n" => "gauge" 7101 7200;
        a_comment_is_an_account: "# comment:x:7000:7000::/c:" => "# comment" 7000 7000;
        leading_blanks_vanish: "  lead:x:1:2::/:" => "lead" 1 2;
        too_few_fields_are_root: "onlyname" => "onlyname" 0 0;
        no_number_is_zero: "baduid:x:xyz:3500::/:" => "baduid" 0 3500;
        hex_is_zero: "h:x:0x10:5" => "h" 0 5;
        zeros_and_plus_are_decimal: "z:x:0010:+12" => "z" 10 12;
        four_billion_wraps: "w:x:4294967296:1" => "w" 0 1;
    }

    #[test]
    fn members_are_taken_as_written() {
        let file = group("group", "g:x:50: alice ,bob,\n\nh:x:abc:late\n");
        assert_eq!(file[0].members, [" alice ", "bob"]);
        let from = Provenance::Line { file: "group".into(), line: 3 };
        assert_eq!((file[1].gid, &file[1].from), (0, &from));
    }
}
