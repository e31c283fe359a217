//! Taking typed values out of a TOML table, with a note of everything that is wrong.

use std::collections::BTreeSet;
use std::ops::{Range, RangeInclusive};

use toml_edit::{Item, TableLike, Value};

use super::Mistake;
use crate::suggest::nearest;

/// One table while it is read. What is not taken by the end is an unknown key.
pub(super) struct Fields<'a> {
    table: &'a dyn TableLike,
    what: &'static str,
    known: BTreeSet<&'static str>,
    pub(super) span: Range<usize>,
    pub(super) mistakes: &'a mut Vec<Mistake>,
}

impl<'a> Fields<'a> {
    pub(super) fn new(
        table: &'a dyn TableLike,
        what: &'static str,
        span: Range<usize>,
        mistakes: &'a mut Vec<Mistake>,
    ) -> Self {
        Self { table, what, known: BTreeSet::new(), span, mistakes }
    }

    pub(super) fn mistake(&mut self, span: Range<usize>, message: impl Into<String>) {
        self.mistakes.push(Mistake::new(span, message));
    }

    fn value(&mut self, key: &'static str) -> Option<(&'a Value, Range<usize>)> {
        self.known.insert(key);
        let item = self.table.get(key)?;
        let span = item.span().unwrap_or(self.span.clone());
        let Item::Value(value) = item else {
            self.mistake(span, format!("`{key}` of {} must be a single value", self.what));
            return None;
        };
        Some((value, span))
    }

    /// A section or list of sections below this one.
    pub(super) fn section(&mut self, key: &'static str) -> Option<&'a Item> {
        self.known.insert(key);
        self.table.get(key)
    }

    pub(super) fn text(&mut self, key: &'static str) -> Option<(String, Range<usize>)> {
        let (value, span) = self.value(key)?;
        let Some(text) = value.as_str() else {
            self.mistake(span, format!("`{key}` must be text in quotes"));
            return None;
        };
        if text.is_empty() || text.contains(['\0', '\n']) {
            self.mistake(span, format!("`{key}` must not be empty and must be one line"));
            return None;
        }
        Some((text.to_string(), span))
    }

    pub(super) fn required_text(&mut self, key: &'static str) -> Option<(String, Range<usize>)> {
        if self.table.get(key).is_none() {
            self.known.insert(key);
            let (span, message) = (self.span.clone(), format!("{} needs a `{key}`", self.what));
            self.mistake(span, message);
            return None;
        }
        self.text(key)
    }

    pub(super) fn flag(&mut self, key: &'static str) -> bool {
        let Some((value, span)) = self.value(key) else { return false };
        value.as_bool().unwrap_or_else(|| {
            self.mistake(span, format!("`{key}` must be true or false"));
            false
        })
    }

    /// Reads a number within bounds.
    pub(super) fn number(&mut self, key: &'static str, bounds: RangeInclusive<f64>) -> Option<f64> {
        let (value, span) = self.value(key)?;
        let number = value.as_float().or_else(|| value.as_integer().map(|n| n as f64));
        let number = number.filter(|n| bounds.contains(n));
        if number.is_none() {
            let (least, most) = bounds.into_inner();
            self.mistake(span, format!("`{key}` must be a number from {least} to {most:e}"));
        }
        number
    }

    /// A whole number of at least 1.
    pub(super) fn count(&mut self, key: &'static str) -> Option<u32> {
        let (value, span) = self.value(key)?;
        let count = value.as_integer().and_then(|n| u32::try_from(n).ok()).filter(|n| *n > 0);
        if count.is_none() {
            self.mistake(span, format!("`{key}` must be a whole number of at least 1"));
        }
        count
    }

    /// A list of lists of text.
    pub(super) fn rows(&mut self, key: &'static str) -> Vec<Vec<(String, Range<usize>)>> {
        let Some((value, span)) = self.value(key) else { return Vec::new() };
        let rows = value.as_array().map(|array| array.iter().map(Value::as_array).collect::<Vec<_>>());
        let Some(rows) = rows.filter(|rows| rows.iter().all(Option::is_some)) else {
            self.mistake(
                span,
                format!("`{key}` must be a list of rows: {key} = [[\"A1\", \"A2\"], [\"B1\", \"-\"]]"),
            );
            return Vec::new();
        };
        let entry = |v: &Value| (v.as_str().map(str::to_string), v.span().unwrap_or(span.clone()));
        let read: Vec<Vec<_>> =
            rows.into_iter().flatten().map(|row| row.iter().map(entry).collect()).collect();
        let mut found = Vec::new();
        for row in read {
            let mut texts = Vec::new();
            for (text, at) in row {
                match text {
                    Some(text) => texts.push((text, at)),
                    None => self.mistake(at, format!("`{key}` lists names in quotes")),
                }
            }
            found.push(texts);
        }
        found
    }

    pub(super) fn texts(&mut self, key: &'static str) -> Vec<(String, Range<usize>)> {
        let Some((array, span)) = self.list(key) else { return Vec::new() };
        self.names(key, array.iter(), &span)
    }

    /// A list of names, of which some may be lists of names themselves.
    pub(super) fn text_groups(&mut self, key: &'static str) -> Vec<Vec<(String, Range<usize>)>> {
        let Some((array, span)) = self.list(key) else { return Vec::new() };
        let mut groups = Vec::new();
        for entry in array {
            groups.push(match entry.as_array() {
                Some(inner) => self.names(key, inner.iter(), &span),
                None => self.names(key, std::iter::once(entry), &span),
            });
        }
        groups.retain(|group| !group.is_empty());
        groups
    }

    fn list(&mut self, key: &'static str) -> Option<(&'a toml_edit::Array, Range<usize>)> {
        let (value, span) = self.value(key)?;
        let array = value.as_array();
        if array.is_none() {
            self.mistake(span.clone(), format!("`{key}` must be a list: {key} = [\"…\", \"…\"]"));
        }
        array.map(|array| (array, span))
    }

    fn names<'v>(
        &mut self,
        key: &'static str,
        entries: impl Iterator<Item = &'v Value>,
        span: &Range<usize>,
    ) -> Vec<(String, Range<usize>)> {
        let mut texts = Vec::new();
        for entry in entries {
            let at = entry.span().unwrap_or(span.clone());
            match entry.as_str() {
                Some(text) => texts.push((text.to_string(), at)),
                None => self.mistake(at, format!("`{key}` lists names in quotes")),
            }
        }
        texts
    }

    /// Reads text and turns it into something with `read`; its error becomes the mistake.
    pub(super) fn read<T>(
        &mut self,
        key: &'static str,
        read: impl FnOnce(&str) -> Result<T, String>,
    ) -> Option<T> {
        let (text, span) = self.text(key)?;
        read(&text).map_err(|message| self.mistake(span, message)).ok()
    }

    /// Reports every key that nobody asked for.
    pub(super) fn finish(self) {
        for (key, _) in self.table.iter() {
            if self.known.contains(key) {
                continue;
            }
            let span = self.table.get_key_value(key).and_then(|(k, _)| k.span()).unwrap_or(self.span.clone());
            let known: Vec<_> = self.known.iter().copied().collect();
            let mut advice = format!("known keys here are {}", known.join(", "));
            if let Some(near) = nearest(key, known.iter().copied()) {
                advice = format!("did you mean `{near}`? {advice}");
            }
            let message = format!("unknown key `{key}` in {}", self.what);
            self.mistakes.push(Mistake::new(span, message).advise(advice));
        }
    }
}
