//! Names beside the ids of a document, where they are wanted: `uid_name` beside `uid`, `gid_name` beside `gid`.

use std::io::{self, Write};

use mivask_core::names::AccountNames;
use mivask_core::prepare::HOST;
use schemars::Schema;
use serde_json::{Map, Value};

/// Fields that are ids: the name of the field, whether it is a user's, and whether it is one as it is stored.
const IDS: [(&str, bool, bool); 4] =
    [("uid", true, false), ("gid", false, false), ("disk_uid", true, true), ("disk_gid", false, true)];

/// The documents of `text` with names beside ids, each about the innermost `actor` around it; `None` where it is no JSON.
///
/// # Errors
/// Whatever `out` refuses.
pub fn with_names(out: &mut dyn Write, text: &[u8], names: &AccountNames) -> io::Result<bool> {
    let documents: Result<Vec<Value>, _> = serde_json::Deserializer::from_slice(text).into_iter().collect();
    let Ok(documents) = documents else { return Ok(false) };
    // Several documents are lines, each of its own.
    let lines = documents.len() > 1 || !text.trim_ascii_end().contains(&b'\n');
    for mut document in documents {
        annotate(&mut document, "", names);
        if lines {
            mivask_disk::json::compact(out, &document)?;
        } else {
            mivask_disk::json::pretty(out, &document)?;
        }
        writeln!(out)?;
    }
    Ok(true)
}

fn annotate(value: &mut Value, actor: &str, names: &AccountNames) {
    match value {
        Value::Array(all) => all.iter_mut().for_each(|one| annotate(one, actor, names)),
        Value::Object(fields) => {
            // A list of identities calls its actors by `name`.
            let own = ["actor", "name"].iter().find_map(|key| fields.get(*key).and_then(Value::as_str));
            let actor = own.map_or_else(|| actor.to_owned(), ToOwned::to_owned);
            fields.values_mut().for_each(|one| annotate(one, &actor, names));
            add(fields, &actor, names);
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}

fn add(fields: &mut Map<String, Value>, actor: &str, names: &AccountNames) {
    for (field, user, stored) in IDS {
        let Some(id) = fields.get(field).and_then(Value::as_u64).and_then(|id| u32::try_from(id).ok()) else {
            continue;
        };
        let stored = stored || fields.get("ids").and_then(Value::as_str) == Some("stored");
        let place = if stored { HOST } else { actor };
        let name = if user { names.user(place, id) } else { names.group(place, id) };
        if let Some(name) = name {
            fields.insert(format!("{field}_name"), name.into());
        }
    }
    let Some(groups) = fields.get("groups").and_then(Value::as_array) else { return };
    let ids = groups.iter().map(|gid| gid.as_u64().and_then(|gid| u32::try_from(gid).ok()));
    let named = ids.map(|gid| gid.and_then(|gid| names.group(actor, gid)).map(Value::from));
    let named: Vec<Value> = named.map(|name| name.unwrap_or(Value::Null)).collect();
    if named.iter().any(|name| !name.is_null()) {
        fields.insert("group_names".to_owned(), named.into());
    }
}

/// `schema` with the names that may stand beside ids.
pub(super) fn in_schema(schema: &mut Schema) {
    if let Some(object) = schema.as_object_mut() {
        beside(object);
    }
}

fn beside(object: &mut Map<String, Value>) {
    if let Some(fields) = object.get_mut("properties").and_then(Value::as_object_mut) {
        named_fields(fields);
    }
    object.values_mut().for_each(within);
}

fn named_fields(fields: &mut Map<String, Value>) {
    for (field, ..) in IDS.iter().filter(|(field, ..)| fields.contains_key(*field)).collect::<Vec<_>>() {
        let text =
            format!("The account's name, with --names, where the account files have it: of `{field}`.");
        let schema = serde_json::json!({ "description": text, "type": "string" });
        fields.insert(format!("{field}_name"), schema);
    }
    let format = fields.get("groups").and_then(|groups| groups.pointer("/items/format"));
    if format.is_some_and(|format| format == "uint32") {
        let text = "With --names: the name of each of `groups`, null where the account files have none.";
        let items = serde_json::json!({ "type": ["string", "null"] });
        let schema = serde_json::json!({ "description": text, "type": "array", "items": items });
        fields.insert("group_names".to_owned(), schema);
    }
}

fn within(value: &mut Value) {
    match value {
        Value::Object(inner) => beside(inner),
        Value::Array(all) => all.iter_mut().for_each(within),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}
