//! `fate`: what becomes of every file when disks are lost.

mod advice;
mod any;
mod backup;
mod elsewhere;
mod explain;
mod files;
mod map;
mod question;
mod show;
mod summary;

pub(crate) use question::FateArguments;
use question::{Question, to_lose};

use sieve_disk::{Error, Kind, Result};
use sieve_foresight::paper;
use sieve_foresight::{Look, Outlook, PoolOutlook, Step};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::time;
use crate::progress::Watch;
use crate::{json, load};
use backup::Comparison;
use summary::{State, Summary, summarise};

json::named!("fate", files::Answer<'_>);

pub(crate) fn run(context: &Context, asked: &FateArguments) -> Result<Outcome> {
    let files = asked.paper.files.as_deref();
    if let Some(spec) = load::spec_on_paper(&context.pool, files.is_some())? {
        let mut outlook = paper::load(&spec, asked.paper.volume.volume.as_deref(), files)?;
        return answer(context, &mut outlook, asked);
    }
    let pool = load::pool(&context.pool)?;
    let how = if asked.look.scan { Look::Always } else { Look::WhereShort };
    let mut outlook = PoolOutlook::open(&pool, how, &Watch::begin(false)?)?;
    if let Some(at) = outlook.as_of {
        let ago = time::ago(at, pool.machine.now());
        crate::say_aside!("as of the scan {ago}; zinc-sieve fate --scan looks at all files first");
    }
    answer(context, &mut outlook, asked)
}

fn answer(context: &Context, outlook: &mut dyn Outlook, asked: &FateArguments) -> Result<Outcome> {
    let steps = asked.after.iter().map(|text| Step::parse(text)).collect::<Result<Vec<_>>>()?;
    let question = Question { lose: to_lose(outlook, asked)?, steps, asked };
    if let Some(file) = &asked.map {
        return map::run(context, outlook, &question, file.as_deref());
    }
    if let Some(count) = asked.any {
        return any::run(context, outlook, &question, count);
    }
    if let Some(path) = &asked.explain {
        return explain::run(context, outlook, &question, path);
    }
    tell(context, outlook, &question)
}

fn tell(context: &Context, outlook: &mut dyn Outlook, question: &Question<'_>) -> Result<Outcome> {
    if question.lose.is_empty() && outlook.missing().is_empty() {
        return Err(Error::new(Kind::Usage, "fate.nothing-lost", "no disk is missing, and none was named")
            .remedy("name the disks that are to be lost: zinc-sieve fate --lose NAME[,NAME…]"));
    }
    let now = state(outlook, question)?;
    refuse_empty_folder(question.asked, &now.summary)?;
    let (before, shown, notes) = if question.steps.is_empty() {
        (None, now, Vec::new())
    } else {
        let notes = question.do_first(outlook)?;
        (Some(now), state(outlook, question)?, notes)
    };
    let comparison = question.asked.backup.as_deref().map(|path| Comparison::new(outlook, question, path));
    let comparison = comparison.transpose()?;
    let elsewhere = elsewhere::of_lost(context, outlook, question)?;
    if context.json {
        let mut answer = files::Answer::of(outlook, question, &shown);
        if let Some(before) = &before {
            answer = answer.after(question, before, &notes);
        }
        json::print(&answer.beside(comparison.as_ref(), elsewhere.as_ref()))?;
    } else if question.asked.sheet.csv {
        files::print_csv(outlook, question, comparison.as_ref())?;
    } else {
        show::show(question, &shown, before.as_ref(), &notes);
        if let Some(comparison) = &comparison {
            comparison.show(question.asked.top);
        }
        if let Some(elsewhere) = &elsewhere {
            elsewhere.show();
        }
        if question.steps.is_empty() {
            advice::show(outlook, question, &shown.summary.totals)?;
        }
    }
    Ok(Outcome::well(shown.summary.totals.all_survive()))
}

fn state(outlook: &mut dyn Outlook, question: &Question<'_>) -> Result<State> {
    outlook.lose(&question.lose, true)?;
    Ok(State { missing: outlook.missing(), summary: summarise(outlook, question)? })
}

/// A folder without files is a slip of the pen, and no comfort.
fn refuse_empty_folder(asked: &FateArguments, summary: &Summary) -> Result<()> {
    match &asked.folder {
        Some(folder) if summary.parts.is_empty() => {
            Err(Error::new(Kind::NotFound, "fate.no-folder", format!("there is no file in `{folder}`"))
                .remedy("name a folder of the volume, as `zinc-sieve ls` shows it"))
        }
        _ => Ok(()),
    }
}
