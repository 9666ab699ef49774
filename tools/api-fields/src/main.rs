//! Writes `kubernetes.txt` and `oci.txt` of `crates/read/src/fields/`: every field of every object that Mivask
//! reads, with its type.
//!
//! No schema is parsed to find them. Each object is deserialized from a format that has no data: it notes what
//! the specification's own structs ask for (the name of a struct, its fields, the type of each) and hands out a value
//! that satisfies them.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fmt;

use k8s_openapi::Resource;
use k8s_openapi::api::apps::v1::{DaemonSet, Deployment, ReplicaSet, StatefulSet};
use k8s_openapi::api::batch::v1::{CronJob, Job};
use k8s_openapi::api::core::v1::{
    PersistentVolume, PersistentVolumeClaim, Pod, PodTemplate, ReplicationController,
};
use k8s_openapi::api::storage::v1::{CSIDriver, StorageClass};
use serde::de::value::StrDeserializer;
use serde::de::{self, Deserialize, DeserializeSeed, IntoDeserializer, Visitor};

/// The fields of each struct, in the order in which the API lists them.
type Table = BTreeMap<String, Vec<(&'static str, String)>>;

/// Type of a value: what a struct field wants to be given.
struct Asked<'t> {
    table: &'t RefCell<Table>,
    /// Receives the type's name.
    answer: &'t RefCell<String>,
    /// A text that is accepted.
    text: &'static str,
}

#[derive(Debug)]
struct Mistake(String);

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Mistake {}

impl de::Error for Mistake {
    fn custom<T: fmt::Display>(message: T) -> Self {
        Self(message.to_string())
    }
}

/// A moment that every timestamp of the API accepts.
const MOMENT: &str = "2020-01-01T00:00:00Z";

impl Asked<'_> {
    fn note(&self, name: &str) {
        self.answer.borrow_mut().push_str(name);
    }

    fn inner(&self) -> Self {
        Self { ..*self }
    }
}

macro_rules! plain {
    ($($method:ident $visit:ident $value:literal $name:literal;)+) => {$(
        fn $method<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
            self.note($name);
            visitor.$visit($value)
        }
    )+};
}

impl<'de> de::Deserializer<'de> for Asked<'_> {
    type Error = Mistake;

    plain! {
        deserialize_bool visit_bool false "bool";
        deserialize_i32 visit_i32 0 "int32";
        deserialize_i64 visit_i64 0 "int64";
        deserialize_u8 visit_u8 0 "uint8";
        deserialize_u16 visit_u16 0 "uint16";
        deserialize_u32 visit_u32 0 "uint32";
        deserialize_u64 visit_u64 0 "uint64";
        deserialize_f64 visit_f64 0.0 "float";
    }

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        let expected: &dyn de::Expected = &visitor;
        // `IntOrString` and `Quantity` take a number or a text, free-form JSON takes everything.
        self.note(if expected.to_string().contains("JSON") { "any" } else { "scalar" });
        visitor.visit_i64(0)
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        self.note("text");
        visitor.visit_str(self.text)
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        self.deserialize_str(visitor)
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        visitor.visit_some(self)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        visitor: V,
    ) -> Result<V::Value, Mistake> {
        if !matches!(name, "Time" | "MicroTime") {
            return visitor.visit_newtype_struct(self);
        }
        self.note("time");
        let unused = RefCell::new(String::new());
        visitor.visit_newtype_struct(Asked { answer: &unused, text: MOMENT, ..self })
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        self.note("[");
        let value = visitor.visit_seq(Once { asked: Some(self.inner()) })?;
        self.note("]");
        Ok(value)
    }

    fn deserialize_map<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Mistake> {
        self.note("{");
        let value = visitor.visit_map(Once { asked: Some(self.inner()) })?;
        self.note("}");
        Ok(value)
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Mistake> {
        self.note(name);
        self.table.borrow_mut().insert(name.to_owned(), Vec::new());
        visitor.visit_map(Fields { table: self.table, name, fields: fields.iter() })
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Mistake> {
        self.note(&variants.join("|"));
        let first: StrDeserializer<'_, Mistake> = variants[0].into_deserializer();
        visitor.visit_enum(first)
    }

    serde::forward_to_deserialize_any! {
        i8 i16 i128 u128 f32 char bytes byte_buf unit unit_struct tuple tuple_struct identifier ignored_any
    }
}

/// A list or a map of one.
struct Once<'t> {
    asked: Option<Asked<'t>>,
}

impl<'de> de::SeqAccess<'de> for Once<'_> {
    type Error = Mistake;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, Mistake> {
        self.asked.take().map(|asked| seed.deserialize(asked)).transpose()
    }
}

impl<'de> de::MapAccess<'de> for Once<'_> {
    type Error = Mistake;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, Mistake> {
        if self.asked.is_none() {
            return Ok(None);
        }
        let key: StrDeserializer<'_, Mistake> = "key".into_deserializer();
        seed.deserialize(key).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, Mistake> {
        let asked = self.asked.take().ok_or_else(|| Mistake("a value without a key".to_owned()))?;
        seed.deserialize(asked)
    }
}

/// The fields of one struct, one after the other.
struct Fields<'t> {
    table: &'t RefCell<Table>,
    name: &'static str,
    fields: std::slice::Iter<'static, &'static str>,
}

impl<'de> de::MapAccess<'de> for Fields<'_> {
    type Error = Mistake;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, Mistake> {
        let Some(field) = self.fields.as_slice().first() else {
            return Ok(None);
        };
        let key: StrDeserializer<'_, Mistake> = (*field).into_deserializer();
        seed.deserialize(key).map(Some)
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, Mistake> {
        let field = self.fields.next().ok_or_else(|| Mistake("a value without a key".to_owned()))?;
        let answer = RefCell::new(String::new());
        // A kind checks its own version and name.
        let text = match (*field, version_of(self.name)) {
            ("apiVersion", Some(version)) => version,
            ("kind", Some(_)) => self.name,
            // The names of capabilities are checked by whoever reads them.
            _ if self.name == "LinuxCapabilities" => "CAP_CHOWN",
            _ if self.name == "ExecCPUAffinity" => "0",
            _ => "",
        };
        let value = seed.deserialize(Asked { table: self.table, answer: &answer, text })?;
        if let Some(fields) = self.table.borrow_mut().get_mut(self.name) {
            fields.push((field, answer.into_inner()));
        }
        Ok(value)
    }
}

macro_rules! kinds {
    ($($kind:ident)+) => {
        /// The API version that a kind demands of its objects.
        fn version_of(name: &str) -> Option<&'static str> {
            $( if name == $kind::KIND { return Some($kind::API_VERSION); } )+
            None
        }

        /// Notes every kind and everything below it.
        fn note_kinds(table: &RefCell<Table>) {
            $(
                let asked = Asked { table, answer: &RefCell::new(String::new()), text: "" };
                $kind::deserialize(asked).unwrap_or_else(|mistake| panic!("{}: {mistake}", $kind::KIND));
            )+
        }
    };
}

kinds! {
    CSIDriver CronJob DaemonSet Deployment Job PersistentVolume PersistentVolumeClaim Pod PodTemplate
    ReplicaSet ReplicationController StatefulSet StorageClass
}

/// The table as text; `about` says where it comes from.
fn text(table: Table, about: &str) -> String {
    let mut out = format!("# Made by tools/api-fields from {about}; not edited by hand.\n");
    out.push_str("# A type, its API version where it is a Kubernetes kind, and its fields, each with its type: text, bool,\n");
    out.push_str("# float, time, scalar (a number or a text), any, int32 and the like, one|of|these|words, [list of],\n");
    out.push_str("# {map of} or another type.\n");
    for (name, fields) in table {
        let version = version_of(&name).map(|version| format!(" {version}")).unwrap_or_default();
        out.push_str(&format!("{name}{version}\n"));
        for (field, asked) in fields {
            out.push_str(&format!("  {field} {asked}\n"));
        }
    }
    out
}

fn main() {
    let folder = std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../crates/read/src/fields"));
    let write = |name: &str, text: String| std::fs::write(folder.join(name), text).expect("the folder is there");
    let kubernetes = RefCell::new(Table::new());
    note_kinds(&kubernetes);
    write("kubernetes.txt", text(kubernetes.into_inner(), "the crate k8s-openapi"));
    let oci = RefCell::new(Table::new());
    let asked = Asked { table: &oci, answer: &RefCell::new(String::new()), text: "" };
    oci_spec::runtime::Spec::deserialize(asked).expect("every field is given");
    write("oci.txt", text(oci.into_inner(), "the crate oci-spec"));
}
