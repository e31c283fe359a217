//! What the program prints as JSON, held against the written schemas: every run of a test is such a proof.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, LazyLock, Mutex};

use jsonschema::Validator;
use serde_json::{Map, Value};

/// What the name of every result begins with.
const FORMAT: &str = "zinc-sieve/";

/// The schemas that were read.
static KNOWN: LazyLock<Mutex<BTreeMap<String, Arc<Validator>>>> = LazyLock::new(Mutex::default);

/// The folder with the schemas.
pub fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema")
}

/// Holds a result against the schema that its `format` names; what is no JSON, or has no name, passes.
///
/// # Panics
/// When it is not as its schema says, or has a key that the schema does not name.
#[track_caller]
pub fn check(printed: &str) {
    if !printed.starts_with('{') {
        return;
    }
    let Ok(result) = serde_json::from_str::<Value>(printed) else { return };
    let Some(name) = result["format"].as_str().and_then(|format| format.strip_prefix(FORMAT)) else { return };
    check_against(name, &result);
}

/// Holds a value against the schema of that name.
///
/// # Panics
/// As [`check`].
#[track_caller]
pub fn check_against(name: &str, value: &Value) {
    let schema = schema(name);
    let wrong: Vec<String> =
        schema.iter_errors(value).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(wrong.is_empty(), "not as docs/schema/{name}.json says:\n{}\n{value:#}", wrong.join("\n"));
}

#[track_caller]
fn schema(name: &str) -> Arc<Validator> {
    let mut known = KNOWN.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    if let Some(schema) = known.get(name) {
        return Arc::clone(schema);
    }
    let path = folder().join(format!("{name}.json"));
    let text = std::fs::read_to_string(&path).unwrap_or_else(|e| {
        panic!("{}: {e}; FORMS_UPDATE=1 with the tests of `forms` writes it", path.display())
    });
    let mut schema: Value = serde_json::from_str(&text).expect("a schema is JSON");
    allow_no_more(&mut schema, false);
    let options = jsonschema::options().should_validate_formats(true);
    let schema = Arc::new(options.build(&schema).expect("a schema is a schema"));
    known.insert(name.into(), Arc::clone(&schema));
    schema
}

/// Refuses keys that the schema does not name. Readers are told that keys may be added, so the files themselves do not;
/// but what is printed today has to be described today.
fn allow_no_more(schema: &mut Value, is_part: bool) {
    match schema {
        Value::Object(object) => {
            let has_properties = object.contains_key("properties");
            if has_properties && !is_part {
                object.insert("unevaluatedProperties".into(), false.into());
            }
            descend(object, has_properties);
        }
        Value::Array(list) => list.iter_mut().for_each(|schema| allow_no_more(schema, is_part)),
        _ => {}
    }
}

/// The variants beside the keys of an object are parts of it: together they name all of its keys.
fn descend(object: &mut Map<String, Value>, has_properties: bool) {
    for (key, value) in object.iter_mut() {
        let is_part = has_properties && matches!(key.as_str(), "oneOf" | "anyOf" | "allOf");
        match (key.as_str(), value) {
            ("properties" | "$defs", Value::Object(named)) => {
                named.values_mut().for_each(|schema| allow_no_more(schema, false));
            }
            (_, value) => allow_no_more(value, is_part),
        }
    }
}
