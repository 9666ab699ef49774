//! What building an image does to its accounts, owners and modes (docs/facts/runtimes.md section 9).
//!
//! A recipe is applied to the facts of the image it begins with. What no rule here covers makes the facts it may
//! touch unknown, and names itself.

mod account;
mod account_change;
mod attributes;
mod copy;
mod directories;
mod done;
mod entries;
mod files;
mod ground;
mod install;
mod names;
mod options;
mod permitted;
mod run;
mod shell;
mod unread;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::tree::{Certainty, Entry, Tree};

use crate::identity::{ImageFacts, Knowledge};
use crate::recipe::{Base, BuildStage, CopyFrom, Instruction};
use crate::runtime::{BuildRules, Builder, Runtime};
use crate::scene::{Image, Program, Scene};
use ground::BuildState;

/// The scene with every image that it builds, as the builder of its runtime makes them.
#[must_use]
pub fn built(scene: &Scene) -> Cow<'_, Scene> {
    if scene.builds.is_empty() {
        return Cow::Borrowed(scene);
    }
    let runtime = scene.runtime.unwrap_or(Runtime::Docker);
    let builder = scene.builder.unwrap_or_else(|| Builder::usual(runtime));
    let rules = builder.rules();
    let mut yard = Yard { scene, rules, builder, done: BTreeMap::new(), under_way: BTreeSet::new() };
    for name in scene.builds.keys() {
        yard.image(name);
    }
    let mut whole = scene.clone();
    for (name, built) in yard.done {
        let image = match scene.images.get(&name) {
            Some(given) => corrected(built, given),
            None => built,
        };
        whole.images.insert(name, image);
    }
    Cow::Owned(whole)
}

/// What the build of the image `name` leaves, with what else was told of it; `None` where there is no such image.
#[must_use]
pub fn image(scene: &Scene, name: &str) -> Option<Image> {
    built(scene).images.get(name).cloned()
}

/// What was built, with what someone told about it in its place.
fn corrected(built: Image, given: &Image) -> Image {
    let given = given.clone();
    let or = |given: Knowledge<_>, built| if matches!(given, Knowledge::Unknown) { built } else { given };
    let accounts = match given.identity.accounts {
        Knowledge::Unknown => built.identity.accounts,
        known @ Knowledge::Known(_) => known,
    };
    Image {
        identity: ImageFacts { user: or(given.identity.user, built.identity.user), accounts, covered: false },
        tree: given.tree.or(built.tree),
        volumes: if given.volumes.is_empty() { built.volumes } else { given.volumes },
        working_directory: given.working_directory.or(built.working_directory),
        program: match (given.program, built.program) {
            (Knowledge::Known(given), Knowledge::Known(built)) => Knowledge::Known(given.over(built)),
            (known @ Knowledge::Known(_), Knowledge::Unknown) | (Knowledge::Unknown, known) => known,
        },
        ..built
    }
}

/// Images that may be built one on the other.
const MOST_IN_A_ROW: usize = 64;

struct Yard<'a> {
    scene: &'a Scene,
    rules: &'a BuildRules,
    builder: Builder,
    done: BTreeMap<String, Image>,
    under_way: BTreeSet<String>,
}

impl<'a> Yard<'a> {
    /// The image `name`, built where it has a recipe.
    fn image(&mut self, name: &str) -> Option<Image> {
        if let Some(image) = self.done.get(name) {
            return Some(image.clone());
        }
        let scene = self.scene;
        // An image that is built on itself has to come from elsewhere.
        let (name, recipe) = match scene.builds.get_key_value(name) {
            // Of a row that is longer than any is built in, the rest is not known.
            Some(build) if self.under_way.len() < MOST_IN_A_ROW && self.under_way.insert(name.to_owned()) => {
                build
            }
            Some(_) | None => return scene.images.get(name).cloned(),
        };
        let mut stages: Vec<BuildState<'a>> = Vec::new();
        for stage in &recipe.stages {
            let ground = self.stage(name, stage, &stages);
            stages.push(ground);
        }
        let mut image = stages.last().map(BuildState::image)?;
        if scene.builder.is_none() {
            let usual = self.builder.word();
            let text =
                format!("image {name} is built by {usual}, the usual builder here (--builder names another)");
            image.assumptions.push(text.into());
        }
        self.under_way.remove(name);
        self.done.insert(name.clone(), image.clone());
        Some(image)
    }

    fn stage(&mut self, name: &'a str, stage: &BuildStage, earlier: &[BuildState<'a>]) -> BuildState<'a> {
        let image = self.base(&stage.base, &stage.from, earlier);
        let tree = image.tree.clone().unwrap_or_else(|| Arc::new(untold(&stage.base)));
        let mut ground = BuildState::new(image, Arc::unwrap_or_clone(tree), name, self.rules);
        ground.bare = match &stage.base {
            Base::Scratch => true,
            Base::Stage(number) => earlier.get(*number).is_some_and(|base| base.bare),
            Base::Image(_) => false,
        };
        for step in &stage.steps {
            match &step.instruction {
                Instruction::User(user) => {
                    ground.user = Knowledge::Known(Some(Fact::new(user.clone(), step.from.clone())));
                }
                Instruction::WorkingDirectory(path) => ground.work_in(path, step),
                Instruction::Volumes(paths) => {
                    let paths = paths.iter().map(|path| Fact::new(path.clone(), step.from.clone()));
                    ground.volumes.extend(paths);
                }
                Instruction::Entrypoint(word) => ground.starts(word, step),
                Instruction::Command(word) => ground.passes(word, step),
                Instruction::Search(text) => ground.looks_in(text, step),
                Instruction::Copy(copy) => {
                    let (tree, whence) = match &copy.from {
                        CopyFrom::Context(tree) => (tree.clone(), "the build context".to_owned()),
                        CopyFrom::Other(base) => {
                            let from = self.base(base, &step.from, earlier).tree;
                            (from.unwrap_or_else(|| Arc::new(untold(base))), in_words(base))
                        }
                    };
                    let before = ground.account_files();
                    ground.copy(copy, &tree, &whence, step);
                    ground.after_copy(step);
                    if before != ground.account_files() {
                        let other = match &copy.from {
                            CopyFrom::Other(base) => self.base(base, &step.from, earlier).identity.accounts,
                            CopyFrom::Context(_) => Knowledge::Unknown,
                        };
                        ground.accounts_copied(&before, (copy, &other), step);
                    }
                }
                Instruction::Run { command, begins, may_fail } => {
                    ground.run(command, (*begins, *may_fail), step);
                }
                Instruction::RunBegins(program) => ground.has_to_start(program, step),
                Instruction::RunEnds => ground.shell_ends(),
            }
        }
        ground
    }

    fn base(&mut self, base: &Base, from: &Provenance, earlier: &[BuildState<'a>]) -> Image {
        match base {
            Base::Scratch => Image {
                identity: ImageFacts {
                    user: Knowledge::Known(None),
                    accounts: Knowledge::Known(Accounts::default()),
                    covered: false,
                },
                tree: Some(Arc::new(Tree::new(Entry::directory(0, 0, 0o755), from.clone()))),
                program: Knowledge::Known(Program::default()),
                ..Image::default()
            },
            Base::Stage(number) => earlier.get(*number).map(BuildState::image).unwrap_or_default(),
            Base::Image(name) => self.image(name).unwrap_or_default(),
        }
    }
}

/// The files of a base that is not given of.
fn untold(base: &Base) -> Tree {
    let base = in_words(base);
    let unknown =
        Unknown::new(&format!("what {base} holds"), &format!("give the tree of {base} in a scene file"));
    Tree::unlisted(Certainty::Assumed(format!("the root of {base} is 0:0 0755").into()), &unknown)
}

fn in_words(base: &Base) -> String {
    match base {
        Base::Scratch => "scratch".to_owned(),
        Base::Stage(number) => format!("build stage {number}"),
        Base::Image(name) => format!("image {name}"),
    }
}
