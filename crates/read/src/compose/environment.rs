//! `.env` of a project: its variables, each bounded in length.

use std::collections::BTreeMap;
use std::path::Path;

use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;

/// Bytes of the value of one variable; the kernel hands a program 131,072 at most (`MAX_ARG_STRLEN`).
const LONGEST_VALUE: usize = 1 << 17;

/// Uses of variables in the values of others.
const MOST_USES: usize = 1_000;

/// The variables in `bytes`. A malformed line is left out, as the shell's variables override the file's; values that grow without
/// bound are a mistake: each line may double the one before.
pub(super) fn environment(
    path: &Path,
    bytes: &[u8],
    diagnostics: &mut Diagnostics,
) -> BTreeMap<String, String> {
    let mut variables = BTreeMap::new();
    let mut wrong = |message: String| {
        let source = SourceText::new(&path.display().to_string(), &String::from_utf8_lossy(bytes));
        diagnostics.add(Severity::Error, &source, &(0..0), message, None);
    };
    let uses = bytes.iter().filter(|byte| **byte == b'$').count();
    if uses > MOST_USES {
        wrong(format!("variables are used {uses} times in the values of others: more than {MOST_USES}"));
        return variables;
    }
    for (name, value) in dotenvy::from_read_iter(bytes).flatten() {
        if value.len() > LONGEST_VALUE {
            wrong(format!("the value of `{name}` is longer than {LONGEST_VALUE} bytes"));
            return variables;
        }
        variables.insert(name, value);
    }
    variables
}
