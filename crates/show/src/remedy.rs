//! A remedy as something to paste.

/// What became of the changes of one remedy that files of the user take: descriptions and build files.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// Each file that changes, or that does not take a change.
    pub files: Vec<PatchedFile>,
    /// Images whose build file has the changes, so that no command is left to be put there.
    pub images: Vec<String>,
}

/// One file with the changes that it takes.
#[derive(Clone, Debug, Default)]
pub struct PatchedFile {
    /// The file, as the user named it.
    pub file: Option<String>,
    /// A unified diff against that file; empty where nothing changes there.
    pub diff: String,
    /// The whole file as it is.
    pub old: Option<String>,
    /// The whole file with them.
    pub text: Option<String>,
    /// Changes that no field takes, and what to do instead.
    pub problems: Vec<String>,
}

impl Written {
    /// The files that change.
    pub fn changed(&self) -> impl Iterator<Item = (&str, &str)> {
        self.files.iter().filter_map(|one| Some((one.file.as_deref()?, one.text.as_deref()?)))
    }
}
