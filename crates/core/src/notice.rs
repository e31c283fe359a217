//! Conditions that somebody should know of, and when he is told: once when one begins, once when it ends, and again after a
//! while if it goes on.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How soon somebody should do something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Files are lost or at stake now.
    ActNow,
    /// They will be.
    Soon,
    /// Nothing has to be done.
    Information,
}

impl Severity {
    /// The words for it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::ActNow => "act now",
            Self::Soon => "soon",
            Self::Information => "for your information",
        }
    }
}

/// Something that holds now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Condition {
    /// What it is, and of what: `disk-missing:cedar`. The same thing has the same code as long as it goes on.
    pub code: String,
    /// How soon somebody should do something.
    pub severity: Severity,
    /// The disk that it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disk: Option<String>,
    /// Where that sits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bay: Option<String>,
    /// The end of its serial number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub serial_tail: Option<String>,
    /// In one sentence.
    pub text: String,
    /// The one command to type.
    pub command: String,
}

/// Which moment of a condition is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Moment {
    /// It begins.
    Begins,
    /// It goes on.
    GoesOn,
    /// It is over.
    Ends,
    /// It is none: somebody tries whether he is told.
    Test,
}

/// Something to tell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Event {
    /// The pool.
    pub pool: String,
    /// Which moment.
    pub moment: Moment,
    /// When: nanoseconds since 1970.
    #[serde(with = "crate::moment")]
    #[schemars(with = "crate::moment::Text")]
    pub at: i64,
    /// Since when the condition holds.
    #[serde(with = "crate::moment")]
    #[schemars(with = "crate::moment::Text")]
    pub since: i64,
    /// What it is about.
    #[serde(flatten)]
    pub condition: Condition,
}

/// A condition that held at the last look.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    /// What it is.
    pub condition: Condition,
    /// Since when, nanoseconds since 1970.
    pub since: i64,
    /// When it was told last; never, while it is muted from its beginning.
    pub told: Option<i64>,
    /// Somebody has said that he knows.
    #[serde(default)]
    pub seen: bool,
}

/// An event that a channel did not take yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unsent {
    /// The channel.
    pub channel: String,
    /// What it is to be told.
    pub event: Event,
}

/// What was told so far.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Book {
    /// The version of the format.
    pub format: u32,
    /// What held at the last look, by code.
    pub known: BTreeMap<String, Known>,
    /// Until when something is not told, nanoseconds since 1970, by code.
    #[serde(default)]
    pub muted: BTreeMap<String, i64>,
    /// What a channel did not take.
    #[serde(default)]
    pub unsent: Vec<Unsent>,
}

impl Book {
    /// The version that this program writes.
    pub const FORMAT: u32 = 1;

    /// So many events wait for a channel at most; the oldest go.
    pub const MOST_UNSENT: usize = 100;

    /// Takes what holds now, and gives what is to be told.
    pub fn meet(
        &mut self,
        pool: &str,
        conditions: Vec<Condition>,
        now: i64,
        remind_after: i64,
    ) -> Vec<Event> {
        self.format = Self::FORMAT;
        self.muted.retain(|_, until| *until > now);
        let tell = |moment, condition: &Condition, since| Event {
            pool: pool.to_string(),
            moment,
            at: now,
            since,
            condition: condition.clone(),
        };
        let mut events = Vec::new();
        let held: Vec<String> = conditions.iter().map(|condition| condition.code.clone()).collect();
        let (still, over) =
            std::mem::take(&mut self.known).into_iter().partition(|(code, _)| held.contains(code));
        self.known = still;
        let over: BTreeMap<String, Known> = over;
        for (_, known) in
            over.into_iter().filter(|(code, known)| known.told.is_some() && !self.muted.contains_key(code))
        {
            events.push(tell(Moment::Ends, &known.condition, known.since));
        }
        for condition in conditions {
            let code = condition.code.clone();
            let is_muted = self.muted.contains_key(&code);
            let known = self.known.entry(code).or_insert_with(|| Known {
                condition: condition.clone(),
                since: now,
                told: None,
                seen: false,
            });
            // What became worse is told anew.
            let is_worse = condition.severity < known.condition.severity;
            known.condition = condition;
            let moment = match known.told {
                None => Some(Moment::Begins),
                Some(_) if is_worse => Some(Moment::Begins),
                Some(told) if !known.seen && now.saturating_sub(told) >= remind_after => Some(Moment::GoesOn),
                Some(_) => None,
            };
            if let Some(moment) = moment.filter(|_| !is_muted) {
                known.told = Some(now);
                events.push(tell(moment, &known.condition, known.since));
            }
        }
        events
    }

    /// Keeps what a channel did not take, for another time.
    pub fn keep(&mut self, channel: &str, event: Event) {
        self.unsent.push(Unsent { channel: channel.to_string(), event });
        let excess = self.unsent.len().saturating_sub(Self::MOST_UNSENT);
        self.unsent.drain(..excess);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn missing(disk: &str) -> Condition {
        Condition {
            code: format!("disk-missing:{disk}"),
            severity: Severity::ActNow,
            disk: Some(disk.into()),
            bay: None,
            serial_tail: None,
            text: format!("{disk} is missing"),
            command: "zinc-sieve status".into(),
        }
    }

    fn moments(events: &[Event]) -> Vec<(&str, Moment)> {
        events.iter().map(|event| (event.condition.code.as_str(), event.moment)).collect()
    }

    #[test]
    fn told_once_when_it_begins_and_once_when_it_ends_and_again_after_a_while() {
        let mut book = Book::default();
        let cedar = || vec![missing("cedar")];
        assert_eq!(moments(&book.meet("f", cedar(), 10, 100)), [("disk-missing:cedar", Moment::Begins)]);
        assert!(book.meet("f", cedar(), 20, 100).is_empty());
        assert_eq!(moments(&book.meet("f", cedar(), 110, 100)), [("disk-missing:cedar", Moment::GoesOn)]);
        assert!(book.meet("f", cedar(), 120, 100).is_empty());
        assert_eq!(moments(&book.meet("f", vec![], 130, 100)), [("disk-missing:cedar", Moment::Ends)]);
        assert!(book.meet("f", vec![], 140, 100).is_empty());
    }

    #[test]
    fn what_is_seen_is_not_told_again_and_what_is_muted_is_told_later() {
        let mut book = Book::default();
        book.meet("f", vec![missing("cedar")], 10, 100);
        book.known.get_mut("disk-missing:cedar").unwrap().seen = true;
        assert!(book.meet("f", vec![missing("cedar")], 500, 100).is_empty());
        book.muted.insert("disk-missing:oak".into(), 700);
        assert!(book.meet("f", vec![missing("cedar"), missing("oak")], 600, 100).is_empty());
        let later = book.meet("f", vec![missing("cedar"), missing("oak")], 800, 100);
        assert_eq!(moments(&later), [("disk-missing:oak", Moment::Begins)]);
    }

    #[test]
    fn what_becomes_worse_is_told_anew() {
        let mut book = Book::default();
        let soon = Condition { severity: Severity::Soon, ..missing("cedar") };
        book.meet("f", vec![soon], 10, 100);
        assert_eq!(
            moments(&book.meet("f", vec![missing("cedar")], 20, 100)),
            [("disk-missing:cedar", Moment::Begins)]
        );
    }

    #[test]
    fn what_waits_for_a_channel_is_bounded() {
        let mut book = Book::default();
        let events = book.meet("f", vec![missing("cedar")], 10, 100);
        (0..300).for_each(|_| book.keep("mail", events[0].clone()));
        assert_eq!(book.unsent.len(), Book::MOST_UNSENT);
    }
}
