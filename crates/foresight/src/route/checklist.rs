//! A route as a list to tick off, and where one is on it.

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use super::report::{Answer, StepLine};

/// The version of what a list says for the program.
const FORMAT: u32 = 1;
/// What stands before what is said for the program.
const FENCE: &str = "```json route";
/// No list is longer.
const LONGEST: usize = 1 << 20;

/// A route as it was written down.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Checklist {
    /// The version of the format.
    format: u32,
    /// The volume.
    pub volume: String,
    /// The goals.
    pub goals: Vec<String>,
    /// The steps.
    pub steps: Vec<Item>,
}

/// A step as it was written down: enough to see whether it was taken.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Item {
    /// What is done.
    pub does: String,
    /// The member.
    pub member: String,
    /// Where the member is when it is done.
    pub path: Option<String>,
    /// The kind that the volume becomes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// What is typed.
    pub commands: Vec<Vec<String>>,
    /// What is done with the hands before it.
    pub before: Vec<String>,
    /// And after it.
    pub afterwards: Vec<String>,
}

/// Where one is on a route.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Next {
    /// Steps that were taken.
    pub taken: usize,
    /// All of them.
    pub steps: usize,
    /// The step that comes next; nothing at the end.
    pub next: Option<Item>,
}

impl Checklist {
    /// What of a route is written down.
    pub fn of(answer: &Answer) -> Self {
        let item = |step: &StepLine| Item {
            does: step.does.into(),
            member: step.member.clone(),
            path: step.onto.as_ref().map(|drive| drive.path.clone()),
            to: step.to.map(Into::into),
            commands: step.commands.clone(),
            before: step.before.clone(),
            afterwards: step.afterwards.clone(),
        };
        Self {
            format: FORMAT,
            volume: answer.volume.clone(),
            goals: answer.goals.clone(),
            steps: answer.steps.iter().map(item).collect(),
        }
    }

    /// The list for people, and at its end what the program reads again.
    ///
    /// # Errors
    /// Never, for what came out of a plan.
    pub fn text(&self, quoted: impl Fn(&[String]) -> String) -> Result<String> {
        let mut text = format!("# {}: {}\n\n", self.volume, self.goals.join(", "));
        for (position, item) in self.steps.iter().enumerate() {
            text += &format!("- [ ] **{}** {} {}\n", position + 1, item.does, item.member);
            item.before.iter().for_each(|line| text += &format!("  - [ ] {line}\n"));
            item.commands.iter().for_each(|command| text += &format!("  - [ ] `{}`\n", quoted(command)));
            item.afterwards.iter().for_each(|line| text += &format!("  - [ ] {line}\n"));
        }
        let own = serde_json::to_string_pretty(self)
            .map_err(|e| Error::new(Kind::Internal, "route.write", e.to_string()))?;
        Ok(format!(
            "{text}\n`zinc-sieve route --next` reads what follows, and says which step comes next.\n\n{FENCE}\n{own}\n```\n"
        ))
    }

    /// Reads a list.
    ///
    /// # Errors
    /// When it is none, or was changed so that it is none any more.
    pub fn read(text: &str, place: &Path) -> Result<Self> {
        let wrong = |why: &str| {
            Error::new(Kind::Usage, "route.list", format!("{}: {why}", place.display()))
                .remedy("zinc-sieve route GOAL… --steps FILE writes such a list")
        };
        if text.len() > LONGEST {
            return Err(wrong("this is too long for a list of steps"));
        }
        let own = text.split_once(FENCE).and_then(|(_, rest)| rest.split_once("```"));
        let (own, _) = own.ok_or_else(|| wrong("this is no list of steps"))?;
        let list: Self = serde_json::from_str(own).map_err(|e| wrong(&e.to_string()))?;
        if list.format > FORMAT {
            return Err(wrong("this list is of a newer format"));
        }
        Ok(list)
    }
}

/// Where one is: steps are seen to be taken by what the pool is now, not by what was ticked off.
///
/// # Errors
/// When a later step was taken and an earlier one was not, or a disk is missing.
pub fn next(pool: &Pool, list: &Checklist, is_synced: bool) -> Result<Next> {
    if let Some(away) = pool.members.iter().find(|member| !member.state.is_usable()) {
        let message = format!("disk {} is not there: see to it before the next step", away.row.name);
        return Err(Error::new(Kind::Safety, "route.missing", message)
            .remedy(format!("zinc-sieve fate --lose {} says what it means", away.row.name)));
    }
    let changes: Vec<bool> = list.steps.iter().map(|item| is_taken(pool, item, is_synced)).collect();
    // A sync is seen to be done by what follows it, too.
    let is_sync = |position: usize| list.steps[position].does == "sync";
    let last = (0..changes.len()).filter(|p| changes[*p] && !is_sync(*p)).max();
    let taken = last.map_or_else(|| changes.iter().take_while(|taken| **taken).count(), |last| last + 1);
    if let Some(skipped) = (0..taken).find(|position| !changes[*position] && !is_sync(*position)) {
        let item = &list.steps[skipped];
        let message = format!(
            "step {} ({} {}) was not taken, and a later one was",
            skipped + 1,
            item.does,
            item.member
        );
        return Err(Error::new(Kind::Conflict, "route.order", message).remedy(format!(
            "plan anew from what the pool is now: zinc-sieve route {}",
            quoted(&list.goals)
        )));
    }
    Ok(Next { taken, steps: list.steps.len(), next: list.steps.get(taken).cloned() })
}

fn quoted(goals: &[String]) -> String {
    goals.iter().map(|goal| format!("\"{goal}\"")).collect::<Vec<_>>().join(" ")
}

fn is_taken(pool: &Pool, item: &Item, is_synced: bool) -> bool {
    let member = pool.members.iter().find(|member| member.row.name == item.member);
    let path = member.and_then(|member| member.spec.as_ref()?.path.as_deref());
    match item.does.as_str() {
        "sync" => is_synced,
        "vacate" => member.is_none(),
        "grow" => member.is_some(),
        "convert" => {
            let volume = pool.volume(Some(&item.member)).ok();
            volume.is_some_and(|volume| item.to.as_deref() == Some(volume.kind.word()))
        }
        _ => path.is_some() && path == item.path.as_deref(),
    }
}
