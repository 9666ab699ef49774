//! A remedy as something to paste.

/// What became of the changes that a description takes.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// The file they are written into, as the user named it.
    pub file: Option<String>,
    /// A unified diff against that file; empty where nothing changes there.
    pub diff: String,
    /// The whole file with them.
    pub text: Option<String>,
    /// Changes that no field takes, and what to do instead.
    pub problems: Vec<String>,
}
