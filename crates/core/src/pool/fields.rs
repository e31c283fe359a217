//! Taking typed values out of a TOML table, with a note of everything that is wrong.

use std::collections::BTreeSet;
use std::ops::Range;

use toml_edit::{Item, TableLike, Value};

use super::Mistake;

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

    pub(super) fn texts(&mut self, key: &'static str) -> Vec<(String, Range<usize>)> {
        let Some((value, span)) = self.value(key) else { return Vec::new() };
        let Some(array) = value.as_array() else {
            self.mistake(span, format!("`{key}` must be a list: {key} = [\"…\", \"…\"]"));
            return Vec::new();
        };
        let mut texts = Vec::new();
        for entry in array {
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
            self.mistakes.push(
                Mistake::new(span, format!("unknown key `{key}` in {}", self.what))
                    .advise(format!("known keys here are {}", known.join(", "))),
            );
        }
    }
}
