//! `host: { people: ... }`: accounts of the host that act on its own files.

use mivask_core::fact::Fact;
use mivask_core::identity::{GroupName, PlainIdentity};
use mivask_core::scene::{Container, Host, Who, Workload};

use super::convert::Reading;
use super::people_section::{PeopleSection, PersonFacts, PersonSection};
use super::types::HostSection;
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::people::host_workload;
use crate::yaml::Node;

impl Reading<'_> {
    /// The people of the host as one workload; `None` where there are none. `node` is the host's section.
    pub(super) fn people(
        &mut self,
        section: &HostSection,
        host: &Host,
        node: Option<&Node>,
    ) -> Option<Workload> {
        let at = node?.get("people")?;
        let containers = match &section.people {
            PeopleSection::All(word) if word == "accounts" => self.everybody(host, at),
            PeopleSection::All(word) => {
                let message = format!("`{}` is not a list of people", word.escape_debug());
                let help = "write a list, such as [ada, bob], or `accounts` for all of the passwd file";
                self.diagnostics.add(Severity::Error, self.source, &at.span, message, Some(help.to_owned()));
                Vec::new()
            }
            PeopleSection::Listed(people) => {
                let all = people.iter().enumerate();
                all.filter_map(|(index, person)| self.person(person, host, at.item(index)?)).collect()
            }
        };
        let from = self.source.place(&at.span, "host.people");
        (!containers.is_empty()).then(|| host_workload(containers, from))
    }

    fn everybody(&mut self, host: &Host, at: &Node) -> Vec<Container> {
        let lines = host.accounts.as_ref().and_then(|accounts| accounts.passwd.as_ref());
        let Some(lines) = lines else {
            let message = "the host's accounts are not given";
            let help = "give `host: { accounts: { passwd: ... } }`".to_owned();
            self.diagnostics.add(Severity::Error, self.source, &at.span, message, Some(help));
            return Vec::new();
        };
        let from = self.source.place(&at.span, "host.people");
        lines.iter().map(|line| on_host(Container::plain(&line.name, &line.name, from.clone()))).collect()
    }

    fn person(&mut self, person: &PersonSection, host: &Host, at: &Node) -> Option<Container> {
        let from = self.source.place(&at.span, "host.people");
        let container = match person {
            PersonSection::Account(name) => Container::plain(name, name, from),
            PersonSection::Person(facts) => {
                let user = facts.user.as_ref().map_or(facts.name.as_str(), |user| user.0.as_str());
                let mut container = Container::plain(&facts.name, user, from);
                let Who::Plain(plain) = &mut container.who else { return None };
                self.details(plain, facts, at);
                container
            }
        };
        self.known_account(&container, host, at);
        Some(on_host(container))
    }

    fn details(&mut self, plain: &mut PlainIdentity, facts: &PersonFacts, at: &Node) {
        let place = |key: &str| {
            let node = at.get(key).unwrap_or(at);
            self.source.place(&node.span, &format!("host.people.{key}"))
        };
        plain.groups = facts
            .groups
            .iter()
            .map(|group| {
                let number = group.0.parse().map(GroupName::Number);
                Fact::new(number.unwrap_or_else(|_| GroupName::Name(group.0.clone())), place("groups"))
            })
            .collect();
        plain.umask = facts.umask.as_ref().and_then(|umask| self.umask(umask, at));
    }

    /// A name that no line of the passwd file has is nobody.
    fn known_account(&mut self, container: &Container, host: &Host, at: &Node) {
        let Who::Plain(plain) = &container.who else { return };
        let Some(user) = &plain.user else { return };
        let name = user.value.split(':').next().unwrap_or_default();
        let Some(lines) = host.accounts.as_ref().and_then(|accounts| accounts.passwd.as_ref()) else {
            return;
        };
        if name.parse::<u32>().is_ok() || lines.iter().any(|line| line.name == name) {
            return;
        }
        let help = match nearest(name, lines.iter().map(|line| line.name.as_str())) {
            Some(known) => format!("did you mean `{known}`?"),
            None => "name an account of its passwd file, or give `user: UID:GID`".to_owned(),
        };
        let message = format!("the host has no account `{}`", name.escape_debug());
        self.diagnostics.add(Severity::Error, self.source, &at.span, message, Some(help));
    }
}

fn on_host(container: Container) -> Container {
    Container { on_host: true, ..container }
}
