//! A whole project: its services as containers of one workload.

use std::collections::HashMap;
use std::path::Path;

use mivask_core::fact::Fact;
use mivask_core::fact::Provenance;
use mivask_core::identity::PodSecurity;
use mivask_core::recipe::Recipe;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{Container, GivenFile, Lent, Volume, Workload};
use mivask_core::unmodelled::Unmodelled;
use serde::de::DeserializeOwned;

use super::lender::lender;
use super::types::Project;
use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::{Node, Value, from_node};

/// Gives the values of variables.
pub(super) type Variable<'a> = dyn Fn(&str) -> Option<String> + 'a;

/// One project being read.
pub(super) struct Reading<'a> {
    pub source: &'a SourceText,
    pub files: &'a dyn FileReader,
    pub diagnostics: &'a mut Diagnostics,
    pub root: &'a Node,
    /// The project's folder as the user named it.
    pub folder: &'a Path,
    /// The value of a variable.
    pub variable: &'a Variable<'a>,
    pub name: String,
    /// Names of the project's volumes.
    pub declared: Vec<String>,
    pub volumes: Vec<Volume>,
    /// Images that services build.
    pub builds: Vec<(String, Recipe)>,
    /// Services whose images' volumes the service that is being read has.
    pub lenders: Vec<(Fact<String>, Lent, bool)>,
    /// Files that are put into the service that is being read.
    pub given_files: Vec<GivenFile>,
    /// What the service that is being read asks for and no rule follows.
    pub unmodelled: Vec<Unmodelled>,
}

impl<'a> Reading<'a> {
    /// A project of which nothing is read yet.
    pub(super) fn new(
        (root, source, folder): (&'a Node, &'a SourceText, &'a Path),
        (files, variable): (&'a dyn FileReader, &'a Variable<'a>),
        name: String,
        diagnostics: &'a mut Diagnostics,
    ) -> Self {
        Self {
            source,
            files,
            diagnostics,
            root,
            folder,
            variable,
            name,
            declared: Vec::new(),
            volumes: Vec::new(),
            builds: Vec::new(),
            lenders: Vec::new(),
            given_files: Vec::new(),
            unmodelled: Vec::new(),
        }
    }
}

impl Reading<'_> {
    pub(super) fn typed<T: DeserializeOwned>(&mut self, node: &Node) -> Option<T> {
        from_node(node, self.source, self.diagnostics, misplaced)
    }

    pub(super) fn diagnostic(
        &mut self,
        severity: Severity,
        node: &Node,
        message: &str,
        help: Option<String>,
    ) {
        self.diagnostics.add(severity, self.source, &node.span, message, help);
    }

    /// The elements of the list at `key`. Anything else there is a mistake: skipped over, it would change the answer.
    pub(super) fn list<'n>(&mut self, node: &'n Node, key: &str) -> &'n [Node] {
        match node.get(key) {
            Some(list) if !list.is_list() && !list.is_nothing() => {
                let help = list.text().map(|text| format!("write [{}]", text.escape_debug()));
                let message = format!("`{key}` is a list, found {}", list.noun());
                self.diagnostic(Severity::Error, list, &message, help);
                &[]
            }
            Some(list) => list.items(),
            None => &[],
        }
    }

    /// The pairs of the mapping at `key`, with the same strictness.
    pub(super) fn mapping<'n>(&mut self, node: &'n Node, key: &str) -> &'n [(Node, Node)] {
        match node.get(key) {
            Some(Node { value: Value::Mapping(pairs), .. }) => pairs,
            Some(other) if !other.is_nothing() => {
                let message = format!("`{key}` is a mapping, found {}", other.noun());
                self.diagnostic(Severity::Error, other, &message, None);
                &[]
            }
            Some(_) | None => &[],
        }
    }

    /// The workload of a merged project.
    pub(super) fn workload(&mut self) -> Option<Workload> {
        let root = self.root;
        let reading = self;
        let profiles = (reading.variable)("COMPOSE_PROFILES").unwrap_or_default();
        let project: Project = reading.typed(root)?;
        reading.name = project.name.unwrap_or_else(|| reading.name.clone());
        reading.project_volumes(root);
        for list in ["secrets", "configs"] {
            reading.mapping(root, list);
        }
        let services = reading.mapping(root, "services");
        if services.is_empty() {
            reading.diagnostic(Severity::Error, root, "the file has no services", None);
            return None;
        }
        reading.consistent(services);
        // A service without profiles always runs; one with profiles only when one of them is named.
        let active: Vec<&str> = profiles.split(',').map(str::trim).filter(|name| !name.is_empty()).collect();
        let mut waiting = Vec::new();
        let mut wanted: Vec<(&str, &Node)> = Vec::new();
        for (key, node) in services {
            let Some(name) = key.text() else { continue };
            let own: Vec<&str> = reading.list(node, "profiles").iter().filter_map(Node::text).collect();
            let runs =
                own.is_empty() || own.iter().any(|name| active.contains(name)) || active.contains(&"*");
            if runs {
                wanted.push((name, node));
            } else {
                waiting.push(name);
            }
        }
        if !waiting.is_empty() {
            let message = format!("left out, for no profile of theirs is active: {}", waiting.join(", "));
            let help = Some("name profiles in the variable COMPOSE_PROFILES".to_owned());
            let at = root.get("services").unwrap_or(root).clone();
            reading.diagnostic(Severity::Note, &at, &message, help);
        }
        let containers: Vec<Container> =
            // A service that mounts another one's volumes finds them only after that one was read.
            in_order(&wanted, root.get("services").unwrap_or(root)).into_iter().filter_map(|(name, node)| reading.service(name, node)).collect();
        if containers.is_empty() && !reading.diagnostics.has_errors() {
            reading.diagnostic(Severity::Error, root, "no service of the file runs", None);
        }
        Some(Workload {
            name: reading.name.clone(),
            kind: "Compose project".to_owned(),
            flavour: Flavour::Compose,
            namespace: String::new(),
            own_users: None,
            security: PodSecurity::default(),
            volumes: std::mem::take(&mut reading.volumes),
            containers,
            service_account_token: None,
            from: reading.source.place(&root.span, "services"),
        })
    }

    pub(super) fn place(&self, node: &Node, field: &str) -> Provenance {
        self.source.place(&node.span, field)
    }
}

/// Services behind those they depend on: in that order containers are made, and new volumes filled. One that depends on itself
/// comes where it is met first.
fn in_order<'a>(services: &[(&'a str, &'a Node)], all: &'a Node) -> Vec<(&'a str, &'a Node)> {
    let mut places: HashMap<&str, usize> = HashMap::with_capacity(services.len());
    for (at, (name, _)) in services.iter().enumerate() {
        places.entry(name).or_insert(at);
    }
    let mut seen = vec![false; services.len()];
    let mut out = Vec::with_capacity(services.len());
    for first in 0..services.len() {
        if std::mem::replace(&mut seen[first], true) {
            continue;
        }
        // A row may be as long as the file: it is followed on a stack of its own.
        let mut row = vec![(first, needs(services[first].1, all).into_iter())];
        while let Some((at, left)) = row.last_mut() {
            let next = left.by_ref().filter_map(|need| places.get(need).copied());
            match next.into_iter().find(|next| !std::mem::replace(&mut seen[*next], true)) {
                Some(next) => row.push((next, needs(services[next].1, all).into_iter())),
                None => {
                    out.push(services[*at]);
                    row.pop();
                }
            }
        }
    }
    out
}

/// The services that one depends on, by name.
fn needs<'a>(service: &'a Node, all: &'a Node) -> Vec<&'a str> {
    let mut needs: Vec<&str> = Vec::new();
    match service.get("depends_on").map(|list| &list.value) {
        Some(Value::Sequence(items)) => needs.extend(items.iter().filter_map(Node::text)),
        Some(Value::Mapping(pairs)) => needs.extend(pairs.iter().filter_map(|(key, _)| key.text())),
        Some(Value::Scalar { .. }) | None => {}
    }
    let from = service.get("volumes_from").map(Node::items).unwrap_or_default();
    needs.extend(from.iter().filter_map(Node::text).map(|text| text.split(':').next().unwrap_or(text)));
    let joined = ["ipc", "network_mode"].into_iter().filter_map(|key| service.get(key)?.text());
    needs.extend(joined.filter_map(|text| lender(all, text)));
    needs
}

/// Where keys belong that are at the wrong level.
fn misplaced(holder: &str, key: &str) -> Option<&'static str> {
    match (holder, key) {
        ("Project", "image" | "user" | "cap_drop" | "read_only") => Some("under a service"),
        ("Service", "driver" | "driver_opts") => Some("under the top-level `volumes:`"),
        ("Service", "runAsUser" | "runAsGroup") => Some("under the name `user`, as UID:GID"),
        _ => None,
    }
}
