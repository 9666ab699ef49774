//! `build` of a service: where its build file is and what is skipped to it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use mivask_core::recipe::{BuildFile, Recipe};

use super::project::Reading;
use super::service::pairs;
use super::types::Build;
use crate::diagnostic::Severity;
use crate::dockerfile::{self, Options};
use crate::text::SourceText;
use crate::yaml::Node;

impl Reading<'_> {
    /// Reads how the image `image` of a service is built.
    pub(super) fn build(&mut self, image: &str, node: &Node) {
        let inline = node.get("dockerfile_inline").and_then(Node::text);
        let context = node.text().or_else(|| node.get("context").and_then(Node::text)).unwrap_or(".");
        let given: Build = match node.text() {
            Some(_) => Build::default(),
            None => match self.typed(node) {
                Some(given) => given,
                None => return,
            },
        };
        if is_remote(context) {
            let message =
                format!("the build context of {image} is elsewhere: what it makes is not known here");
            let help = Some(format!("give `images: {{ {image}: ... }}` in a scene file"));
            return self.diagnostic(Severity::Note, node, &message, help);
        }
        let context = PathBuf::from(context);
        let named = given.dockerfile.as_deref().unwrap_or("Dockerfile");
        let path = context.join(named);
        let source = match inline {
            Some(text) => SourceText::new(&format!("dockerfile_inline of {image}"), text),
            None => match self.build_file(&path) {
                Ok(source) => source,
                Err(reason) => {
                    let shown = self.shown(&path);
                    let message =
                        format!("{shown} cannot be read: {reason}; what {image} holds is not known");
                    let help = Some(format!("give `images: {{ {image}: ... }}` in a scene file"));
                    return self.diagnostic(Severity::Warning, node, &message, help);
                }
            },
        };
        let options = Options { args: self.build_args(node), target: given.target };
        let recipe = dockerfile::read(&source, &context, &options, self.files, self.diagnostics);
        let file = inline.is_none().then(|| {
            Arc::new(BuildFile {
                path: self.shown(&path),
                context: self.shown(&context),
                args: options.args,
                target: options.target,
            })
        });
        self.builds.extend(recipe.map(|recipe| (image.to_owned(), Recipe { file, ..recipe })));
    }

    fn build_file(&self, path: &Path) -> Result<SourceText, String> {
        let bytes = self.files.read(path).map_err(|error| error.to_string())?;
        let text = String::from_utf8(bytes).map_err(|_| "it is not UTF-8".to_owned())?;
        Ok(SourceText::new(&self.shown(path), &text))
    }

    /// A path as the user would name it: from the folder of the project, where it is in it.
    fn shown(&self, path: &Path) -> String {
        let folder = self.folder;
        let whole = self.files.absolute(folder);
        let path = path.strip_prefix(&whole).map_or_else(|_| path.to_path_buf(), |inner| folder.join(inner));
        path.display().to_string()
    }

    /// `args` as a mapping or a list; one without a value takes the environment's.
    fn build_args(&mut self, node: &Node) -> std::collections::BTreeMap<String, String> {
        let Some(args) = node.get("args") else { return std::collections::BTreeMap::new() };
        let named: Vec<(String, Option<String>)> = if args.is_list() {
            let items = args.items().iter().filter_map(Node::text);
            let pair = |text: &str| match text.split_once('=') {
                Some((name, value)) => (name.to_owned(), Some(value.to_owned())),
                None => (text.to_owned(), None),
            };
            items.map(pair).collect()
        } else {
            let value = |value: &Node| {
                if value.is_nothing() { None } else { value.text().map(str::to_owned) }
            };
            let pairs = pairs(args).iter();
            pairs.filter_map(|(key, node)| Some((key.text()?.to_owned(), value(node)))).collect()
        };
        let variable = self.variable;
        named
            .into_iter()
            .filter_map(|(name, value)| Some((name.clone(), value.or_else(|| variable(&name))?)))
            .collect()
    }
}

/// A context that a builder fetches.
pub(super) fn is_remote(context: &str) -> bool {
    context.contains("://") || context.starts_with("git@")
}
