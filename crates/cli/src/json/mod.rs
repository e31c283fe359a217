//! Results as JSON on stdout: each has a name, a version, and a schema that is made from its type.

mod numbers;
mod schema;

use std::io::Write;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_disk::{Error, Kind, Result};

use numbers::{Compact, Pretty};
use schema::{FORMAT, VERSION};
pub(crate) use schema::{Form, names, schema};

/// A result: an object that is told by its name. [`named`] implements it, and puts its schema among the others, so that
/// nothing can be printed that no schema describes.
pub(crate) trait Named: Serialize + JsonSchema {
    /// What it is called.
    const NAME: &'static str;
}

/// Gives a type the name under which it is printed.
macro_rules! named {
    ($name:literal, $type:ty) => {
        impl $crate::json::Named for $type {
            const NAME: &'static str = $name;
        }
        inventory::submit! { $crate::json::Form::of::<$type>($name) }
    };
}
pub(crate) use named;

/// A result that is many: each is printed on a line of its own, when it is there.
pub(crate) trait Line: Serialize + JsonSchema {}

/// Gives a type that is printed line by line the name of its schema.
macro_rules! named_line {
    ($name:literal, $type:ty) => {
        impl $crate::json::Line for $type {}
        inventory::submit! { $crate::json::Form::of_line::<$type>($name) }
    };
}
pub(crate) use named_line;

/// A result that is a list: an object that holds it under a key.
macro_rules! list {
    ($name:literal, $type:ident { $key:ident: $item:ty }) => {
        #[derive(serde::Serialize, schemars::JsonSchema)]
        struct $type<'a> {
            $key: &'a [$item],
        }
        $crate::json::named!($name, $type<'_>);
    };
}
pub(crate) use list;

/// Prints one of many on a line of its own.
///
/// # Errors
/// As [`print`].
pub(crate) fn line<T: Line>(value: &T) -> Result<()> {
    crate::output::document(&format!("{}\n", text(value)?));
    Ok(())
}

/// A value on one line.
///
/// # Errors
/// When it cannot be written as JSON.
pub(crate) fn text<T: Serialize>(value: &T) -> Result<String> {
    let mut text = Vec::new();
    let mut serializer = serde_json::Serializer::with_formatter(&mut text, Compact);
    value.serialize(&mut serializer).map_err(|e| unwritable(&e))?;
    Ok(String::from_utf8_lossy(&text).into_owned())
}

fn unwritable(error: &serde_json::Error) -> Error {
    Error::new(Kind::Internal, "json.write", format!("the result cannot be written as JSON: {error}"))
}

/// What every result begins with: which one it is, and of which version of its form.
#[derive(Serialize)]
struct Envelope<'a, T> {
    format: String,
    version: u32,
    #[serde(flatten)]
    result: &'a T,
}

impl<'a, T: Named> Envelope<'a, T> {
    fn of(result: &'a T) -> Self {
        Self { format: format!("{FORMAT}{}", T::NAME), version: VERSION, result }
    }
}

/// Prints a result.
///
/// # Errors
/// When it cannot be written as JSON. Output that is closed, or full, is told at the end.
pub(crate) fn print<T: Named>(result: &T) -> Result<()> {
    // Written as it is made: the lists of a large pool need not be in memory twice.
    let mut out = std::io::BufWriter::new(crate::output::Stdout);
    let mut serializer = serde_json::Serializer::with_formatter(&mut out, Pretty::default());
    Envelope::of(result).serialize(&mut serializer).map_err(|e| unwritable(&e))?;
    // What cannot be written is noted where it is written.
    let _ = out.write_all(b"\n").and_then(|()| out.flush());
    Ok(())
}

/// What went wrong.
#[derive(Serialize, JsonSchema)]
struct Failure<'a> {
    /// Which error it is, for a program.
    code: &'a str,
    /// What is wrong, in words.
    message: &'a str,
    /// What to do next.
    remedy: Option<&'a str>,
}

/// What is printed in place of a result.
#[derive(Serialize, JsonSchema)]
struct Failed<'a> {
    /// What went wrong.
    error: Failure<'a>,
}
named!("error", Failed<'_>);

/// Says what went wrong, in place of the result.
pub(crate) fn print_error(code: &str, message: &str, remedy: Option<&str>) {
    // Plain text can always be written as JSON.
    if let Ok(text) = text(&Envelope::of(&Failed { error: Failure { code, message, remedy } })) {
        crate::output::document(&format!("{text}\n"));
    }
}
