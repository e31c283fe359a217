//! `check`: the pool file and the disks behind it.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::pool::{Mistake, PoolSpec};
use sieve_disk::{Kind, Result};
use sieve_pool::check::{Finding, Severity, look};
use sieve_pool::pool::catalogue_path;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::style::{self, paint};
use crate::{json, load, machine};

json::named!("check", Answer<'_>);

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// What keeps the pool file from being read.
    mistakes: Vec<MistakeLine>,
    /// What is doubtful about it.
    findings: &'a [Finding],
}

#[derive(Serialize, JsonSchema)]
struct MistakeLine {
    /// Its line in the pool file.
    line: usize,
    /// What is wrong.
    message: String,
    /// What to do.
    advice: Option<String>,
}

pub(crate) fn run(context: &Context) -> Result<Outcome> {
    let file = load::read(&context.pool)?;
    let machine = machine::real();
    let mut looked = file.spec.as_ref().map(|spec| look(&*machine, spec)).unwrap_or_default();
    let mut mistakes = file.mistakes.clone();
    mistakes.append(&mut looked.mistakes);
    if mistakes.is_empty()
        && let Some(spec) = &file.spec
    {
        looked.findings.extend(members(context, spec.clone())?);
    }
    if context.json {
        let lines = mistakes.iter().map(|m| line(m, &file.text)).collect();
        json::print(&Answer { mistakes: lines, findings: &looked.findings })?;
    } else {
        show(context, &file.text, &mistakes, &looked.findings);
    }
    Ok(match looked.findings.iter().map(|f| f.severity).max() {
        _ if !mistakes.is_empty() => Outcome::Wrong,
        Some(Severity::State) => Outcome::NotWell,
        _ => Outcome::Fine,
    })
}

fn line(mistake: &Mistake, text: &str) -> MistakeLine {
    MistakeLine { line: mistake.line(text), message: mistake.message.clone(), advice: mistake.advice.clone() }
}

/// What the labels say: each member is itself, or in a state with its advice.
fn members(context: &Context, spec: PoolSpec) -> Result<Vec<Finding>> {
    let finding = |severity, subject: &str, message: String, advice| Finding {
        severity,
        subject: subject.into(),
        message,
        advice,
        span: 0..0,
    };
    let name = spec.name.clone();
    let pool = match sieve_pool::open(machine::real(), &context.pool, spec) {
        Ok(pool) => pool,
        Err(error) if error.code == "pool.not-created" => {
            let message = format!("the pool `{name}` has not been created yet");
            return Ok(vec![finding(Severity::Fine, &name, message, error.remedy)]);
        }
        Err(error) if error.kind == Kind::Safety => {
            return Ok(vec![finding(Severity::State, &name, error.message, error.remedy)]);
        }
        Err(error) => return Err(error),
    };
    let mut findings = Vec::new();
    for member in &pool.members {
        let name = &member.row.name;
        if member.state.is_usable() && matches!(member.state, sieve_pool::member::State::Present) {
            let message = format!(
                "{name} is itself: {} {} of {}",
                member.row.role.word(),
                member.row.slot,
                member.row.volume
            );
            findings.push(finding(Severity::Fine, name, message, None));
        } else {
            let refusal = member.refusal();
            findings.push(finding(Severity::State, name, refusal.message, refusal.remedy));
        }
    }
    for what in sieve_foresight::status::tables(&pool)? {
        findings.push(finding(Severity::State, &pool.spec.name, what, None));
    }
    findings
        .extend(pool.notes.iter().map(|note| finding(Severity::Doubt, &pool.spec.name, note.clone(), None)));
    debug_assert!(catalogue_path(&context.pool).exists());
    Ok(findings)
}

fn things_are(number: usize) -> String {
    if number == 1 { "1 thing is".into() } else { format!("{number} things are") }
}

/// How the pool file and its disks are, in a sentence.
fn answer(findings: &[Finding]) {
    let of = |severity| findings.iter().filter(|finding| finding.severity == severity).count();
    match (of(Severity::State), of(Severity::Doubt)) {
        (0, 0) => crate::answer!("{}", paint(style::WELL, "The pool file and its disks are fine.")),
        (0, doubts) => {
            let words = format!("Nothing is wrong, and {} doubtful.", things_are(doubts));
            crate::answer!("{}", paint(style::WATCH, words));
        }
        (wrong, _) => {
            let words = format!("{} wrong.", things_are(wrong));
            crate::answer!("{}", paint(style::BAD, words));
        }
    }
}

fn show(context: &Context, text: &str, mistakes: &[Mistake], findings: &[Finding]) {
    load::show_mistakes(&context.pool, text, mistakes);
    if mistakes.is_empty() {
        answer(findings);
    }
    for (severity, title, mark) in [
        (Severity::State, "Wrong", paint(style::BAD, "✗")),
        (Severity::Doubt, "Doubtful", paint(style::WATCH, "?")),
        (Severity::Fine, "Fine", paint(style::WELL, "✓")),
    ] {
        let of_kind: Vec<_> = findings.iter().filter(|f| f.severity == severity).collect();
        // What is fine of a file that has to be corrected anyway would only hide the mistakes.
        if of_kind.is_empty() || severity == Severity::Fine && !mistakes.is_empty() {
            continue;
        }
        style::heading(title);
        for finding in of_kind {
            crate::say!("  {mark} {}", finding.message);
            if let Some(advice) = finding.advice.as_ref().filter(|a| !a.is_empty()) {
                crate::say!("      {}", paint(style::FAINT, advice));
            }
        }
    }
    if !mistakes.is_empty() {
        let plural = if mistakes.len() == 1 { "mistake" } else { "mistakes" };
        crate::say_aside!("{} {plural} in {}", mistakes.len(), context.pool.display());
    }
}
