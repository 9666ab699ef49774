//! What is found while a user string is looked up.

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::refusal::{Refusal, RefusalClass};

use super::{IdentityFact, IdentityField, NamespaceTerms};
use crate::runtime::IdentityRules;

/// The class of every refusal outside a cluster.
const START: RefusalClass = RefusalClass::StartRefused;

/// The facts behind an identity as they are found.
pub(super) struct Notes<'a> {
    pub image_name: &'a str,
    pub rules: &'a IdentityRules,
    pub terms: &'a NamespaceTerms,
    pub facts: Vec<IdentityFact>,
    pub assumptions: Vec<Arc<str>>,
    pub refusal: Option<Refusal>,
}

impl Notes<'_> {
    pub(super) fn refuse(&mut self, reason: String, from: Provenance) {
        self.refusal.get_or_insert(Refusal { class: START, reason, from, whole_pod: false });
    }

    pub(super) fn fact(&mut self, field: IdentityField, value: impl ToString, from: Provenance) {
        self.facts.push(IdentityFact { field, value: value.to_string(), from });
    }
}
