//! A build file alone: one container of the image that it builds, started as the image says.

use std::path::Path;
use std::sync::Arc;

use mivask_core::fact::Fact;
use mivask_core::identity::PodSecurity;
use mivask_core::recipe::BuildFile;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{Container, Scene, Who, Workload};

use crate::diagnostic::Diagnostics;
use crate::dockerfile::{self, Options};
use crate::files::FileReader;
use crate::text::SourceText;

/// The image that is built, and the actor that runs it.
const IMAGE: &str = "image";

/// Whether a file is a build file, by its name.
pub(crate) fn is_one(path: &Path) -> bool {
    let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    ["Dockerfile", "Containerfile"].into_iter().any(|usual| {
        let small = usual.to_lowercase();
        name == usual
            || name.starts_with(&format!("{usual}."))
            || name.ends_with(&format!(".{usual}"))
            || name.ends_with(&format!(".{small}"))
    })
}

/// Adds the image and its container.
pub(crate) fn add(
    path: &Path,
    bytes: &[u8],
    scene: &mut Scene,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) {
    let source = SourceText::new(&path.display().to_string(), &String::from_utf8_lossy(bytes));
    let context = path.parent().unwrap_or(Path::new(""));
    let options = Options { args: std::collections::BTreeMap::new(), target: None };
    let Some(mut recipe) = dockerfile::read(&source, context, &options, files, diagnostics) else { return };
    recipe.file = Some(Arc::new(BuildFile {
        path: path.display().to_string(),
        context: context.display().to_string(),
        args: options.args,
        target: None,
    }));
    let from = source.place(&(0..0), "the build file");
    scene.builds.insert(IMAGE.to_owned(), recipe);
    let mut container = Container::plain(IMAGE, "", from.clone());
    container.image = Some(Fact::new(IMAGE.to_owned(), from.clone()));
    if let Who::Plain(plain) = &mut container.who {
        plain.user = None;
    }
    scene.workloads.push(Arc::new(Workload {
        name: "build".to_owned(),
        kind: "build file".to_owned(),
        flavour: Flavour::Compose,
        namespace: String::new(),
        own_users: None,
        security: PodSecurity::default(),
        volumes: Vec::new(),
        containers: vec![container],
        service_account_token: None,
        from,
    }));
}
