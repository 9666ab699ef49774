//! Groups that a description adds, and those that `keep-groups` keeps.

use mivask_model::fact::Fact;
use mivask_model::held::Held;

use super::groups::look_up;
use super::kubernetes::out_of_range;
use super::notes::Notes;
use super::people::People;
use super::{GroupName, IdentityField, ImageFacts, Knowledge, PlainIdentity};

impl Notes<'_> {
    /// Whether its user namespace has no such group, and the engine passes over memberships of it.
    pub(super) fn lacks(&self, gid: u32) -> bool {
        self.terms.available.as_ref().is_some_and(|known| known.gids.forward(gid).is_none())
    }

    /// `keep-groups` puts the groups of who starts the container in place of its own: root has none. What they are inside its
    /// namespace tells.
    fn kept(&mut self, asked: &PlainIdentity, people: &mut People) -> bool {
        let is_word =
            |group: &&Fact<GroupName>| matches!(&group.value, GroupName::Name(name) if name == "keep-groups");
        if !self.rules.knows_keep_groups {
            return false;
        }
        let Some(word) = asked.groups.iter().find(is_word) else { return false };
        if asked.groups.len() > 1 {
            self.refuse("keep-groups takes no other group beside it".to_owned(), word.from.clone());
        }
        if self.terms.kept_groups.is_none() {
            self.fact(IdentityField::Group, "none, like the root that starts it", word.from.clone());
        }
        people.possible.iter_mut().for_each(|(_, person)| person.groups.clear());
        true
    }

    /// The groups that the description adds. Engines look names and numbers up together, in the group file.
    pub(super) fn added(&mut self, asked: &PlainIdentity, image: &ImageFacts, people: &mut People) {
        if self.kept(asked, people) {
            return;
        }
        let wanted: Vec<String> = asked.groups.iter().map(|group| group.value.to_string()).collect();
        let found = match &image.accounts {
            Knowledge::Known(accounts) => look_up(&wanted, accounts),
            Knowledge::Unknown => vec![None; wanted.len()],
        };
        let complete = matches!(&image.accounts, Knowledge::Known(known) if known.incomplete.is_none());
        let mut added = Vec::new();
        for (group, found) in asked.groups.iter().zip(found) {
            match &group.value {
                GroupName::Name(name) if name.is_empty() && self.rules.passes_over_empty_groups => continue,
                GroupName::Number(number) if found.is_none() && out_of_range(&number.to_string()) => {
                    let reason = format!("`{number}`: uids and gids must be in range 0-2147483647");
                    self.refuse(reason, group.from.clone());
                    continue;
                }
                GroupName::Name(_) | GroupName::Number(_) => {}
            }
            let gid = match (&group.value, found) {
                (GroupName::Number(gid), None) => Some(*gid),
                (_, Some((gid, _))) => Some(gid),
                (GroupName::Name(name), None) if complete => {
                    let reason = format!(
                        "unable to find group {name}: the image's group file has no further line for it"
                    );
                    self.refuse(reason, group.from.clone());
                    continue;
                }
                (GroupName::Name(name), None) => {
                    let text =
                        format!("the group `{name}` of image {} owns nothing listed here", self.image_name);
                    self.assumptions.push(text.into());
                    None
                }
            };
            let value = gid.map_or_else(|| format!("that of `{}`", group.value), |gid| gid.to_string());
            self.fact(IdentityField::Group, value, group.from.clone());
            added.push(Held::from(gid));
        }
        if let Some(group) = &self.terms.kept_group {
            self.fact(IdentityField::Group, group.value, group.from.clone());
            added.push(Held::Id(group.value));
        }
        if let Some(group) = &asked.filesystem_group {
            self.fact(IdentityField::Group, group.value, group.from.clone());
            added.push(Held::Id(group.value));
        }
        people.possible.iter_mut().for_each(|(_, person)| person.groups.extend(&added));
    }
}
