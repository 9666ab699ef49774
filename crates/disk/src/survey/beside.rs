//! What a survey of an image holds beside its files: its configuration and its account files.

use base64::prelude::{BASE64_STANDARD, Engine};
use serde::{Deserialize, Serialize};

use crate::gathered::{AccountFiles, Gathered, ImageFacts};

/// In the head of a survey.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct Beside {
    /// What the configuration says; `None` where there is none, as for a folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    configuration: Option<ImageFacts>,
    /// The account files; `None` where their content was not read.
    #[serde(skip_serializing_if = "Option::is_none")]
    accounts: Option<Accounts>,
}

/// Account files as base64: their bytes need not be text.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(default)]
struct Accounts {
    #[serde(skip_serializing_if = "Option::is_none")]
    passwd: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    group: Option<String>,
}

impl Beside {
    /// What `accounts` and `configuration` hold, passwords left out.
    pub(super) fn of(accounts: Option<&AccountFiles>, configuration: Option<&ImageFacts>) -> Self {
        let packed = |file: &Option<Vec<u8>>| {
            file.as_deref().map(|bytes| BASE64_STANDARD.encode(without_passwords(bytes)))
        };
        let accounts =
            accounts.map(|files| Accounts { passwd: packed(&files.passwd), group: packed(&files.group) });
        Self { configuration: configuration.cloned(), accounts }
    }

    /// Adds it to what was read.
    pub(super) fn give(self, gathered: Gathered) -> Result<Gathered, base64::DecodeError> {
        let unpacked = |text: Option<String>| text.map(|text| BASE64_STANDARD.decode(text)).transpose();
        let accounts = match self.accounts {
            Some(files) => {
                Some(AccountFiles { passwd: unpacked(files.passwd)?, group: unpacked(files.group)? })
            }
            None => None,
        };
        Ok(Gathered { accounts, image: self.configuration, ..gathered })
    }

    /// Whether there is nothing.
    pub(super) fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// An account file with `x` in the place of each password: nobody looks one up to run a process.
fn without_passwords(file: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(file.len());
    for line in file.split_inclusive(|byte| *byte == b'\n') {
        let mut fields = line.splitn(3, |byte| *byte == b':');
        match (fields.next(), fields.next(), fields.next()) {
            (Some(name), Some(password), Some(rest)) if password.len() > 1 => {
                out.extend([name, b":x:", rest].concat());
            }
            _ => out.extend(line),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::without_passwords;

    #[test]
    fn passwords_are_not_kept_and_everything_else_is() {
        let given = b"root:$6$salt$hash:0:0::/:/bin/sh\n# a:remark\nwww:x:33:33\nx::1:1\nodd\n:$1$a:7:7";
        let kept = b"root:x:0:0::/:/bin/sh\n# a:remark\nwww:x:33:33\nx::1:1\nodd\n:x:7:7";
        assert_eq!(without_passwords(given), kept);
    }
}
