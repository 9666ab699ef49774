//! Which columns of a sweep the AppArmor profile of engines may decide.

use mivask_model::mode::FileKind;
use mivask_rules::profile::{Letters, denies};

use super::column::Column;

/// Whether a rule denies what `column` asks of the inode of `kind` at `path`.
pub(super) fn denied(path: &[u8], kind: FileKind, column: Column) -> bool {
    let with = |end: &[u8], letters| denies(&[path, end].concat(), letters).is_some();
    match column {
        Column::Read => with(b"", Letters::READ),
        Column::Delete if kind == FileKind::Directory => with(b"/", Letters::WRITE),
        Column::Write | Column::Delete => with(b"", Letters::WRITE),
        Column::Create => with(b"/new", Letters::WRITE),
        Column::List => with(b"/", Letters::READ),
        Column::Run => with(b"", Letters::RUN),
        // chdir(2) has no hook.
        Column::Enter => false,
    }
}
