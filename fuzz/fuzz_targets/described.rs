//! Files in memory and one question about what they describe.

#![allow(dead_code, reason = "each target takes what it needs")]

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use mivask_core::prepare;
use mivask_core::question::{access, default_paths, mounts};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{FileReader, Origin, read_input};

/// Files by name.
pub struct Files(pub BTreeMap<&'static str, Vec<u8>>);

impl FileReader for Files {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        self.0.get(name).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn folder(&self, _: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        Ok(None)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Ok(Vec::new())
    }
}

/// Reads the file `name`: a scene of which every question ends, or mistakes with places in their texts.
pub fn ask(name: &str, files: &Files) {
    let mut diagnostics = Diagnostics::default();
    let read = read_input(&Origin::of(Path::new(name)), files, &mut diagnostics);
    for diagnostic in diagnostics.iter() {
        let (text, span) = (&diagnostic.source.text, &diagnostic.span);
        assert!(span.start <= span.end && span.end <= text.len(), "{span:?}");
        assert!(text.is_char_boundary(span.start) && text.is_char_boundary(span.end), "{span:?}");
        let _ = diagnostic.source.line_column(span.start);
    }
    let Some(scene) = read.ok().filter(|_| !diagnostics.has_errors()) else { return };
    let stage = prepare::stage(&scene);
    for actor in stage.actors.iter().take(8) {
        drop(mounts(&stage, actor));
        default_paths(&stage, actor).iter().take(8).for_each(|path| drop(access(&stage, actor, path)));
    }
}
