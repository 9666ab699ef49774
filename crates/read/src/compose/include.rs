//! `include` of the Compose specification: files with a folder and an environment of their own (compose-go, `ApplyInclude`).

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::environment::environment;
use super::load::{Loader, clean};
use super::merge::merge;
use super::setting::Setting;
use crate::yaml::Node;

/// Environments that the files of a project may be read in.
const MOST_ENVIRONMENTS: usize = 256;

impl Loader<'_> {
    /// What `include` brings, merged.
    pub(super) fn included(&mut self, node: &Node, folder: &Path) -> Option<Node> {
        let mut whole: Option<Node> = None;
        if let Some(other) = node.get("include").filter(|list| !list.is_list() && !list.is_nothing()) {
            self.error(&other.span, format!("`include` is a list, found {}", other.noun()));
        }
        let list = node.get("include").map(|list| list.items().to_vec()).unwrap_or_default();
        for item in list {
            let paths: Vec<Node> = match (item.text(), item.get("path")) {
                (Some(_), _) => vec![item.clone()],
                (None, Some(paths)) if paths.text().is_some() => vec![paths.clone()],
                (None, Some(paths)) => paths.items().to_vec(),
                (None, None) => Vec::new(),
            };
            let Some(first) = paths.first().and_then(Node::text) else { continue };
            // Relative paths begin at the project's folder: that of the first file, where none is named.
            let own = match item.get("project_directory").and_then(Node::text) {
                Some(own) => folder.join(own),
                None => folder.join(first).parent().map_or_else(|| folder.to_path_buf(), Path::to_path_buf),
            };
            let setting = self.setting(&item, folder, &own)?;
            let around = std::mem::replace(&mut self.setting, setting);
            let mut file = Some(());
            for path in &paths {
                let Some(text) = path.text() else { continue };
                let Some(read) = self.file(&folder.join(text), &own, &path.span) else {
                    file = None;
                    break;
                };
                whole = Some(match whole {
                    Some(lower) => merge(lower, read, ""),
                    None => read,
                });
            }
            self.setting = around;
            file?;
        }
        whole
    }

    /// The variables that an included file is read with: those around it come before those of its own files.
    fn setting(&mut self, item: &Node, folder: &Path, own: &Path) -> Option<Setting> {
        let given = item.get("env_file").filter(|given| !given.is_nothing());
        let named: Vec<&Node> = match given {
            Some(one) if one.text().is_some() => vec![one],
            Some(list) => list.items().iter().collect(),
            None => Vec::new(),
        };
        let mut files: Vec<PathBuf> = Vec::new();
        for one in &named {
            let Some(text) = one.text().filter(|text| *text != "/dev/null") else { continue };
            files.push(folder.join(text));
        }
        if given.is_none() {
            files.extend(Some(own.join(".env")).filter(|path| self.files.read(path).is_ok()));
        }
        let names: Vec<String> = files.iter().map(|path| clean(&self.files.absolute(path))).collect();
        let key = (self.setting.number, names);
        if let Some(known) = self.settings.get(&key) {
            return Some(known.clone());
        }
        if self.settings.len() >= MOST_ENVIRONMENTS {
            self.error(
                &item.span,
                format!("files are included with more than {MOST_ENVIRONMENTS} environments"),
            );
            return None;
        }
        let mut added: BTreeMap<String, String> = BTreeMap::new();
        for path in &files {
            match self.files.read(path) {
                Ok(bytes) => added.extend(environment(path, &bytes, self.diagnostics)),
                Err(error) => {
                    self.error(&item.span, format!("env_file {} cannot be read: {error}", path.display()));
                    return None;
                }
            }
        }
        let around = &self.setting.variables;
        let changes = added.keys().any(|name| !around.contains_key(name));
        added.extend(around.iter().map(|(name, value)| (name.clone(), value.clone())));
        // One that adds nothing is the one around.
        let number = if changes { self.settings.len() + 1 } else { self.setting.number };
        let setting = Setting { variables: added, number };
        self.settings.insert(key, setting.clone());
        Some(setting)
    }
}
