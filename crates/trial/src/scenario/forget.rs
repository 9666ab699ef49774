//! Facts of a scenario left out again, one by one.

use fastrand::Rng;

use super::{Scenario, Setting};

/// One fact that a scene may lack.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Fact {
    /// Owner and group of an entry, by volume and number.
    Owner(usize, usize),
    /// Its mode, and with it its ACL, which nobody gives without one.
    Mode(usize, usize),
    /// What its bytes are.
    Content(usize, usize),
    /// Everything that is on a volume.
    Tree(usize),
    /// A kernel setting.
    Setting(Setting),
}

impl Scenario {
    /// The same without `count` of its facts; without as many as there are where they are fewer.
    #[must_use]
    pub fn forgetting(mut self, count: usize, rng: &mut Rng) -> Self {
        for _ in 0..count {
            let facts = self.facts();
            let Some(fact) = rng.choice(&facts) else { break };
            self.forget(*fact);
        }
        self
    }

    fn facts(&self) -> Vec<Fact> {
        let mut all = Vec::new();
        for (volume, part) in self.volumes.iter().enumerate().filter(|(_, part)| part.listed) {
            for (number, entry) in part.entries.iter().enumerate() {
                if entry.owner.is_some() {
                    all.push(Fact::Owner(volume, number));
                }
                if entry.mode.is_some() && entry.kind != "link" {
                    all.push(Fact::Mode(volume, number));
                }
                if entry.facts.iter().any(|(key, _)| *key == "content") {
                    all.push(Fact::Content(volume, number));
                }
            }
            // Seldom, since nothing is left to be asked about then.
            if part.entries.len() % 5 == 0 {
                all.push(Fact::Tree(volume));
            }
        }
        let settings = [Setting::Symlinks, Setting::Hardlinks, Setting::Regular, Setting::Fifos];
        let given = settings.into_iter().filter(|setting| !self.hidden.contains(setting));
        all.extend(given.map(Fact::Setting));
        all
    }

    fn forget(&mut self, fact: Fact) {
        match fact {
            Fact::Owner(volume, number) => self.volumes[volume].entries[number].owner = None,
            Fact::Mode(volume, number) => {
                let entry = &mut self.volumes[volume].entries[number];
                entry.mode = None;
                entry.facts.retain(|(key, _)| *key != "acl" && *key != "default-acl");
            }
            Fact::Content(volume, number) => {
                self.volumes[volume].entries[number].facts.retain(|(key, _)| *key != "content");
            }
            Fact::Tree(volume) => self.volumes[volume].listed = false,
            Fact::Setting(setting) => self.hidden.push(setting),
        }
    }
}
