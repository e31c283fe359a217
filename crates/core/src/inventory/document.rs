//! Values out of documents that may be of any shape.

use serde_json::Value;

/// Why a document cannot be read at all.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DocumentError {
    /// It is no JSON.
    #[error("it is not JSON: {0}")]
    NotJson(String),
    /// It has not what it is read for.
    #[error("it has no `{0}`")]
    Missing(&'static str),
}

/// Reads JSON text.
pub(super) fn read(text: &str) -> Result<Value, DocumentError> {
    serde_json::from_str(text).map_err(|e| DocumentError::NotJson(e.to_string()))
}

/// The value at a path of keys; nothing where a key is missing or null.
pub(super) fn at<'a>(value: &'a Value, path: &[&str]) -> Option<&'a Value> {
    path.iter().try_fold(value, |value, key| value.get(key)).filter(|v| !v.is_null())
}

/// Text, or a number as text; nothing if it is empty or something else.
pub(super) fn text(value: &Value, path: &[&str]) -> Option<String> {
    let text = match at(value, path)? {
        Value::String(text) => text.trim().to_string(),
        Value::Number(number) => number.to_string(),
        _ => return None,
    };
    (!text.is_empty()).then_some(text)
}

/// A whole number, also one written as text ("7200", "7200 rpm").
pub(super) fn number(value: &Value, path: &[&str]) -> Option<u64> {
    match at(value, path)? {
        Value::Number(number) => {
            number.as_u64().or_else(|| number.as_f64().filter(|f| *f >= 0.0).map(|f| f as u64))
        }
        Value::String(text) => {
            let digits: String = text.trim().chars().take_while(char::is_ascii_digit).collect();
            digits.parse().ok()
        }
        _ => None,
    }
}

/// True or false, also as 0, 1, "0" or "1".
pub(super) fn flag(value: &Value, path: &[&str]) -> Option<bool> {
    match at(value, path)? {
        Value::Bool(flag) => Some(*flag),
        Value::Number(number) => number.as_u64().map(|n| n != 0),
        Value::String(text) => match text.trim() {
            "1" | "true" => Some(true),
            "0" | "false" => Some(false),
            _ => None,
        },
        _ => None,
    }
}

/// The entries of a list; none where there is no list.
pub(super) fn list<'a>(value: &'a Value, path: &[&str]) -> impl Iterator<Item = &'a Value> {
    at(value, path).and_then(Value::as_array).into_iter().flatten()
}
