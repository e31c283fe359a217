//! Whole numbers beyond 2^53 as text: a reader whose numbers are floating point would round them without a word.

use std::io::{Result, Write};

use serde_json::ser::{Formatter, PrettyFormatter};

/// The last whole number up to which floating point has every one.
const LAST_EXACT: u64 = 1 << 53;

fn unsigned<W: ?Sized + Write>(writer: &mut W, value: u64) -> Result<()> {
    if value > LAST_EXACT { write!(writer, "\"{value}\"") } else { write!(writer, "{value}") }
}

fn signed<W: ?Sized + Write>(writer: &mut W, value: i64) -> Result<()> {
    if value.unsigned_abs() > LAST_EXACT { write!(writer, "\"{value}\"") } else { write!(writer, "{value}") }
}

/// All on one line.
pub(super) struct Compact;

impl Formatter for Compact {
    fn write_u64<W: ?Sized + Write>(&mut self, writer: &mut W, value: u64) -> Result<()> {
        unsigned(writer, value)
    }

    fn write_i64<W: ?Sized + Write>(&mut self, writer: &mut W, value: i64) -> Result<()> {
        signed(writer, value)
    }
}

/// With line breaks, for people.
#[derive(Default)]
pub(super) struct Pretty(PrettyFormatter<'static>);

impl Formatter for Pretty {
    fn write_u64<W: ?Sized + Write>(&mut self, writer: &mut W, value: u64) -> Result<()> {
        unsigned(writer, value)
    }

    fn write_i64<W: ?Sized + Write>(&mut self, writer: &mut W, value: i64) -> Result<()> {
        signed(writer, value)
    }

    fn begin_array<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.begin_array(writer)
    }

    fn end_array<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.end_array(writer)
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, writer: &mut W, first: bool) -> Result<()> {
        self.0.begin_array_value(writer, first)
    }

    fn end_array_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.end_array_value(writer)
    }

    fn begin_object<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.begin_object(writer)
    }

    fn end_object<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.end_object(writer)
    }

    fn begin_object_key<W: ?Sized + Write>(&mut self, writer: &mut W, first: bool) -> Result<()> {
        self.0.begin_object_key(writer, first)
    }

    fn begin_object_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.begin_object_value(writer)
    }

    fn end_object_value<W: ?Sized + Write>(&mut self, writer: &mut W) -> Result<()> {
        self.0.end_object_value(writer)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that fails says where")]

    use super::*;
    use rstest::rstest;
    use serde::Serialize;

    fn written(value: &impl Serialize, formatter: impl Formatter) -> String {
        let mut text = Vec::new();
        value.serialize(&mut serde_json::Serializer::with_formatter(&mut text, formatter)).unwrap();
        String::from_utf8(text).unwrap()
    }

    #[rstest]
    #[case(0, "0")]
    #[case(9_007_199_254_740_992, "9007199254740992")]
    #[case(9_007_199_254_740_993, "\"9007199254740993\"")]
    #[case(u64::MAX, "\"18446744073709551615\"")]
    fn beyond_floating_point_a_number_is_text(#[case] value: u64, #[case] expected: &str) {
        assert_eq!(written(&value, Compact), expected);
        assert_eq!(written(&value, Pretty::default()), expected);
    }

    #[test]
    fn a_list_of_people_has_lines() {
        let list = std::collections::BTreeMap::from([("bytes", vec![1_i64, -9_007_199_254_740_993])]);
        assert_eq!(
            written(&list, Pretty::default()),
            "{\n  \"bytes\": [\n    1,\n    \"-9007199254740993\"\n  ]\n}"
        );
    }
}
