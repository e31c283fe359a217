//! Moments in results: nanoseconds since 1970 inside, text as RFC 3339 has it outside. A reader whose numbers are floating
//! point would round nanoseconds, which are beyond 2^53.
//!
//! To be used as `#[serde(with = "moment")]`, or `moment::maybe` for one that may be missing.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serializer};

/// A moment as RFC 3339 has it, "2031-05-04T03:00:00Z".
#[derive(JsonSchema)]
#[schemars(transparent)]
pub struct Text(#[expect(dead_code, reason = "it stands for the text of a schema")] Timestamp);

/// A moment as text, "2031-05-04T03:00:00Z".
pub fn text(at: i64) -> String {
    Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default().to_string()
}

/// Writes it as text.
///
/// # Errors
/// Those of the serializer.
pub fn serialize<S: Serializer>(at: &i64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&text(*at))
}

/// What was written: text, or nanoseconds, as earlier versions wrote.
#[derive(Deserialize)]
#[serde(untagged)]
enum Written {
    Nanoseconds(i64),
    Text(String),
}

/// Reads it.
///
/// # Errors
/// When it is no moment.
pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<i64, D::Error> {
    let text = match Written::deserialize(deserializer)? {
        Written::Nanoseconds(at) => return Ok(at),
        Written::Text(text) => text,
    };
    let stamp: Timestamp = text.parse().map_err(serde::de::Error::custom)?;
    i64::try_from(stamp.as_nanosecond()).map_err(serde::de::Error::custom)
}

/// The same for a moment that may be missing.
pub mod maybe {
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes it as text, or as nothing.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<S: Serializer>(at: &Option<i64>, serializer: S) -> Result<S::Ok, S::Error> {
        match at {
            Some(at) => serializer.serialize_some(&super::text(*at)),
            None => serializer.serialize_none(),
        }
    }

    #[derive(Deserialize)]
    struct Moment(#[serde(with = "super")] i64);

    /// Reads it.
    ///
    /// # Errors
    /// When it is no moment.
    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<i64>, D::Error> {
        Ok(Option::<Moment>::deserialize(deserializer)?.map(|moment| moment.0))
    }
}

#[cfg(test)]
mod tests {
    use serde::{Deserialize, Serialize};

    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    struct Told {
        #[serde(with = "super")]
        at: i64,
        #[serde(with = "super::maybe", default)]
        before: Option<i64>,
    }

    #[test]
    fn what_is_written_is_read_again_and_so_are_nanoseconds() {
        let told = Told { at: 1_936_000_000_123_456_789, before: Some(0) };
        let text = serde_json::to_string(&told).expect("plain data");
        assert_eq!(text, r#"{"at":"2031-05-08T09:46:40.123456789Z","before":"1970-01-01T00:00:00Z"}"#);
        assert_eq!(serde_json::from_str::<Told>(&text).expect("it was written so"), told);
        let old = r#"{"at":1936000000123456789}"#;
        assert_eq!(
            serde_json::from_str::<Told>(old).expect("an earlier version"),
            Told { before: None, ..told }
        );
        assert!(serde_json::from_str::<Told>(r#"{"at":"soon"}"#).is_err());
    }
}
