//! What a build file says, instruction by instruction, before any rule is applied.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::Mode;
use mivask_model::tree::Tree;

/// How one image is built.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// The stages up to the one that becomes the image, which comes last.
    pub stages: Vec<BuildStage>,
    /// The file that it was read from; `None` of a text inside another file.
    pub file: Option<Arc<BuildFile>>,
}

/// Where a recipe was read, and what was said about the build beside it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct BuildFile {
    /// The file, as the user would name it.
    pub path: String,
    /// The folder of its context, likewise.
    pub context: String,
    /// Values of build arguments.
    pub args: BTreeMap<String, String>,
    /// The stage that becomes the image; the last one where none is named.
    pub target: Option<String>,
}

impl Recipe {
    /// The images that it begins with or copies from.
    pub fn images(&self) -> impl Iterator<Item = &String> {
        self.stages.iter().flat_map(|stage| {
            let copied = stage.steps.iter().filter_map(|step| {
                let Instruction::Copy(copy) = &step.instruction else { return None };
                let CopyFrom::Other(base) = &copy.from else { return None };
                base.image()
            });
            stage.base.image().into_iter().chain(copied)
        })
    }
}

impl Base {
    /// The image that it is, if it is one.
    #[must_use]
    pub const fn image(&self) -> Option<&String> {
        if let Self::Image(name) = self { Some(name) } else { None }
    }
}

/// One stage: what it begins with, and what is done to it.
#[derive(Clone, Debug)]
pub struct BuildStage {
    /// What it begins with.
    pub base: Base,
    /// What is done, in order.
    pub steps: Vec<BuildStep>,
    /// Where it begins.
    pub from: Provenance,
}

/// Files that something begins with.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Base {
    /// Nothing at all.
    Scratch,
    /// An earlier stage of the recipe, by number.
    Stage(usize),
    /// An image, by name.
    Image(String),
}

/// One instruction with the words it is called by in answers, such as ``RUN `npm ci` ``.
#[derive(Clone, Debug)]
pub struct BuildStep {
    /// What it does.
    pub instruction: Instruction,
    /// What it is called.
    pub words: Arc<str>,
    /// Where it is.
    pub from: Provenance,
}

/// What an instruction does.
#[derive(Clone, Debug)]
pub enum Instruction {
    /// `USER`
    User(String),
    /// `WORKDIR`, relative to the one before.
    WorkingDirectory(Vec<u8>),
    /// `VOLUME`
    Volumes(Vec<Vec<u8>>),
    /// `ENTRYPOINT`, by its first word; empty where it has none.
    Entrypoint(Vec<u8>),
    /// `CMD`, by its first word; empty where it has none.
    Command(Vec<u8>),
    /// `ENV PATH=`, with a zero byte where what was there before stands.
    Search(Vec<u8>),
    /// `COPY` and `ADD`
    Copy(Box<Copy>),
    /// One command of a `RUN`.
    Run {
        /// What it is.
        command: Command,
        /// Whether it runs whatever became of the one before, as behind `;`.
        begins: bool,
        /// Whether the build goes on where it fails, as before `;` and `||`.
        may_fail: bool,
    },
    /// The beginning of a `RUN`, with the program that it starts where that is an absolute path: the shell, or its own first word.
    RunBegins(Vec<u8>),
    /// The end of a `RUN`: directory and umask of its shell are gone.
    RunEnds,
}

/// `COPY` or `ADD`.
#[derive(Clone, Debug)]
pub struct Copy {
    /// Where the sources lie.
    pub from: CopyFrom,
    /// Their paths there.
    pub sources: Vec<CopySource>,
    /// Where they go; a slash at the end means into a directory.
    pub to: Vec<u8>,
    /// `--chown`
    pub owner: Option<String>,
    /// `--chmod`
    pub mode: Option<Mode>,
    /// `--chmod` in a form that is not followed.
    pub unknown_mode: Option<Unknown>,
}

/// One source of a [`struct@Copy`].
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum CopySource {
    /// A file or directory.
    Path(Vec<u8>),
    /// Something of which only the name it gets is known, if that: an address, an inline text.
    Made(Vec<u8>),
    /// What an archive holds.
    Archive,
}

/// Where the sources of a [`struct@Copy`] lie.
#[derive(Clone, Debug)]
pub enum CopyFrom {
    /// The build context, as far as these sources need it.
    Context(Arc<Tree>),
    /// Another stage or image.
    Other(Base),
}

/// One command of a `RUN`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Command {
    /// Words without anything left to expand.
    Plain(Vec<String>),
    /// Words with patterns among them, or with output that goes to files.
    Shell(ShellCommand),
    /// Something else, with the paths it names.
    Opaque {
        /// Paths among its words, as written.
        names: Vec<Vec<u8>>,
    },
}

/// A command with what a shell does before it starts.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct ShellCommand {
    /// Its words.
    pub words: Vec<ShellWord>,
    /// Files that its output goes to, in order.
    pub outputs: Vec<Output>,
}

/// One word of a [`ShellCommand`].
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ShellWord {
    /// As it is without quotes.
    pub text: String,
    /// Whether `*`, `?` or `[` stands in it without quotes.
    pub pattern: bool,
}

/// A file that output goes to.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Output {
    /// Its path.
    pub path: String,
    /// Whether what it holds stays (`>>`).
    pub appends: bool,
}
