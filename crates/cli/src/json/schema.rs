//! The written schema of every result: JSON Schema 2020-12, made from the types.

use schemars::generate::SchemaSettings;
use schemars::transform::{RecursiveTransform, Transform};
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde_json::{Map, Value, json};

/// What the name of every result begins with.
pub(super) const FORMAT: &str = "zinc-sieve/";
/// Rises when a key goes, or means something else; keys may be added.
pub(super) const VERSION: u32 = 1;

/// The form of one result.
pub(crate) struct Form {
    name: &'static str,
    /// It stands alone, and begins with its name; else it is one line of many.
    stands_alone: bool,
    make: fn(SchemaGenerator) -> Schema,
}

impl Form {
    /// The form of a type under a name.
    pub(crate) const fn of<T: JsonSchema>(name: &'static str) -> Self {
        Self { name, stands_alone: true, make: SchemaGenerator::into_root_schema_for::<T> }
    }

    /// The form of a line of many.
    pub(crate) const fn of_line<T: JsonSchema>(name: &'static str) -> Self {
        Self { name, stands_alone: false, make: SchemaGenerator::into_root_schema_for::<T> }
    }
}

inventory::collect!(Form);

/// The names of all results.
pub(crate) fn names() -> Vec<&'static str> {
    let mut names: Vec<_> = inventory::iter::<Form>().map(|form| form.name).collect();
    names.sort_unstable();
    names
}

/// The schema of the result of that name.
pub(crate) fn schema(name: &str) -> Option<Value> {
    let form = inventory::iter::<Form>().find(|form| form.name == name)?;
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = (form.make)(settings.into_generator());
    RecursiveTransform(in_plain_words).transform(&mut schema);
    let mut schema = schema.to_value();
    if let Some(root) = schema.as_object_mut() {
        root.insert("title".into(), format!("{FORMAT}{name}").into());
        if form.stands_alone {
            enclose(root, name);
        }
    }
    Some(schema)
}

/// Adds what every result begins with.
fn enclose(root: &mut Map<String, Value>, name: &str) {
    root.insert("type".into(), "object".into());
    let entry = |root: &mut Map<String, Value>, key: &str, empty: Value| {
        root.entry(key).or_insert(empty);
    };
    entry(root, "properties", json!({}));
    entry(root, "required", json!([]));
    root["properties"]["format"] = json!({ "const": format!("{FORMAT}{name}") });
    root["properties"]["version"] = json!({ "const": VERSION });
    if let Some(required) = root["required"].as_array_mut() {
        required.splice(0..0, [json!("format"), json!("version")]);
    }
}

/// Takes the marks of links within the source from descriptions, and what a reader of JSON has no use for.
fn in_plain_words(schema: &mut Schema) {
    let Some(object) = schema.as_object_mut() else { return };
    if let Some(Value::String(text)) = object.get_mut("description") {
        *text = text.replace("[`", "").replace("`]", "").replace('\n', " ");
        // Inside the program; outside moments are text.
        for inside in [", nanoseconds since 1970", "; nanoseconds since 1970", ": nanoseconds since 1970"] {
            *text = text.replace(inside, "");
        }
    }
    // The width of a number inside the program promises nothing.
    if object.get("format").and_then(Value::as_str).is_some_and(|format| format.contains("int")) {
        object.remove("format");
    }
}
