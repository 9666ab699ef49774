//! People of the host as a scene lists them.

use std::fmt;

use schemars::JsonSchema;
use serde::Deserialize;
use serde::de::value::{MapAccessDeserializer, SeqAccessDeserializer};
use serde::de::{Deserializer, Error, MapAccess, SeqAccess, Visitor};

use crate::yaml::RawText;

/// Who works on the host: a list, or `accounts` for everybody in its passwd file.
#[derive(Debug, JsonSchema)]
#[schemars(untagged)]
pub enum PeopleSection {
    /// `accounts`
    All(String),
    /// These.
    Listed(Vec<PersonSection>),
}

impl Default for PeopleSection {
    fn default() -> Self {
        Self::Listed(Vec::new())
    }
}

/// Somebody on the host: the name of an account, or more about it.
#[derive(Debug, JsonSchema)]
#[schemars(untagged)]
pub enum PersonSection {
    /// The name of an account.
    Account(String),
    /// An actor of a name of its own.
    Person(Box<PersonFacts>),
}

/// What is given of somebody on the host.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PersonFacts {
    /// The actor's name.
    pub name: String,
    /// The account or the user id, `:GROUP` behind it where it is not the account's; the account called like the actor where
    /// left out.
    pub user: Option<RawText>,
    /// Groups beside those of the account, names or numbers.
    #[serde(default)]
    pub groups: Vec<RawText>,
    /// Its umask, octal; 0022 where left out.
    pub umask: Option<RawText>,
}

impl<'de> Deserialize<'de> for PeopleSection {
    /// By hand, since a derived choice would hide which entry of the list is mistaken.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct People;

        impl<'de> Visitor<'de> for People {
            type Value = PeopleSection;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a list of accounts and people, or the word `accounts`")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<PeopleSection, E> {
                Ok(PeopleSection::All(text.to_owned()))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<PeopleSection, A::Error> {
                Deserialize::deserialize(SeqAccessDeserializer::new(list)).map(PeopleSection::Listed)
            }
        }

        deserializer.deserialize_any(People)
    }
}

impl<'de> Deserialize<'de> for PersonSection {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Person;

        impl<'de> Visitor<'de> for Person {
            type Value = PersonSection;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("the name of an account, or a mapping with `name` and `user`")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<PersonSection, E> {
                Ok(PersonSection::Account(text.to_owned()))
            }

            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<PersonSection, A::Error> {
                Deserialize::deserialize(MapAccessDeserializer::new(map)).map(PersonSection::Person)
            }
        }

        deserializer.deserialize_any(Person)
    }
}
