//! The agenda for other programs: a calendar, units of the system's service manager, crontab lines. Files are written, and
//! nothing is installed.

use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

use chrono::NaiveDateTime;
use icalendar::{Alarm, Calendar, CalendarDateTime, Component, Event, EventLike};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use sieve_core::agenda::{Clock, DaySet, Job, Played, When};
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::agenda::Outline;
use sieve_pool::pool::Pool;

use super::solved::takes;
use crate::commands::context::Context;
use crate::commands::unit::quoted;
use crate::exit::Outcome;
use crate::{json, new_file};

/// Files that were written.
#[derive(Serialize, JsonSchema)]
struct Exported<'a> {
    written: &'a [String],
}
json::named!("agenda-export", Exported<'_>);

/// A file that is written.
struct Made {
    name: String,
    text: String,
}

pub(super) fn run(
    context: &Context,
    pool: &Pool,
    (outline, month): (&Outline, &Played),
    asked: &[String],
) -> Result<Outcome> {
    let [kind, folder] = asked else {
        return Err(Error::new(Kind::Usage, "agenda.export", "an export needs its kind and a folder"));
    };
    let jobs = &outline.setting.jobs;
    let (made, next) = match kind.as_str() {
        "ics" => (vec![calendar(pool, jobs, month)], "import it into a calendar, or let one subscribe to it"),
        "timers" => {
            (timers(pool, jobs)?, "copy them to /etc/systemd/system, then: systemctl enable --now FILE.timer")
        }
        "cron" => (vec![crontab(pool, jobs)?], "add its lines with `crontab -e`"),
        other => {
            let message = sieve_core::suggest::unknown("kind of export", other, ["ics", "timers", "cron"]);
            return Err(Error::new(Kind::Usage, "agenda.export", message));
        }
    };
    let folder = Path::new(folder);
    std::fs::create_dir_all(folder).map_err(|e| Error::io("agenda.export", folder, e))?;
    for file in &made {
        new_file::write(&folder.join(&file.name), &file.text, "agenda.export")?;
    }
    let names: Vec<String> = made.iter().map(|file| folder.join(&file.name).display().to_string()).collect();
    if context.json {
        json::print(&Exported { written: &names })?;
    } else {
        names.iter().for_each(|name| crate::say!("wrote {name}"));
        crate::say!("Nothing was installed. Next: {next}.");
        for job in jobs.iter().filter(|job| job.when.rule().is_none()) {
            crate::say!(
                "{} follows arrivals, which only `zinc-sieve agenda --run` sees as they come.",
                job.name
            );
        }
    }
    Ok(Outcome::Fine)
}

/// A calendar of RFC 5545: an event a job, in local time, which repeats, with its likely duration and an alarm.
fn calendar(pool: &Pool, jobs: &[Job], month: &Played) -> Made {
    let mut calendar = Calendar::empty();
    for (name, value) in
        [("VERSION", "2.0"), ("PRODID", "-//zinc-sieve//agenda//EN"), ("CALSCALE", "GREGORIAN")]
    {
        calendar.append_property((name, value));
    }
    calendar.name(&format!("zinc-sieve: {}", pool.spec.name));
    let now = Timestamp::from_nanosecond(i128::from(pool.machine.now())).unwrap_or_default();
    let stamp = chrono::DateTime::from_timestamp(now.as_second(), 0).unwrap_or_default();
    for (position, job) in jobs.iter().enumerate() {
        let Some(rule) = job.when.rule() else { continue };
        let until = now.checked_add(jiff::SignedDuration::from_hours(24 * 400)).unwrap_or(now);
        let Some(first) = job.when.starts(now, until, &TimeZone::UTC).first().copied() else { continue };
        let first = chrono::DateTime::from_timestamp(first.as_second(), 0).unwrap_or_default();
        let local: NaiveDateTime = first.naive_utc();
        let (likely, cautious) = takes(job, month, position);
        let minutes = (likely.seconds() / 60.0).ceil().max(1.0) as i64;
        let uid = format!("{}-{}@zinc-sieve", pool.identity.pool, plain(&job.name));
        let mut alarm = Alarm::display(&format!("{} begins", job.name), -chrono::Duration::minutes(15));
        alarm.uid(&format!("alarm-{uid}")).timestamp(stamp);
        let mut event = Event::new();
        event
            .uid(&uid)
            .timestamp(stamp)
            .summary(&format!("{} ({})", job.name, pool.spec.name))
            .description(&format!("likely {likely}, cautiously {cautious}"))
            .starts(CalendarDateTime::Floating(local))
            .add_property("DURATION", format!("PT{minutes}M"))
            .add_property("RRULE", rule)
            .alarm(alarm.done());
        calendar.push(event.done());
    }
    Made { name: format!("{}.ics", plain(&pool.spec.name)), text: calendar.done().to_string() }
}

/// A service that does what is due, and a timer that wakes it whenever something may be.
fn timers(pool: &Pool, jobs: &[Job]) -> Result<Vec<Made>> {
    let name = format!("zinc-sieve-agenda-{}", plain(&pool.spec.name));
    let program = program()?;
    let home = sieve_pool::pool::home_folder(&pool.file);
    let service = format!(
        "[Unit]\n\
         Description=What is due in the agenda of {pool_name}\n\
         RequiresMountsFor={home}\n\
         \n\
         [Service]\n\
         Type=oneshot\n\
         ExecStart={program} --pool {file} agenda --due --idle\n\
         # Not all is well, or something waits: told by notices, and no failure of the service.\n\
         SuccessExitStatus=1 5\n\
         TimeoutStartSec=infinity\n\
         # Asked to stop, it ends at the next checkpoint and goes on with the next call.\n\
         TimeoutStopSec=120\n",
        pool_name = pool.spec.name.replace('%', "%%"),
        home = quoted(home),
        program = quoted(&program),
        file = quoted(&pool.file),
    );
    let mut lines: Vec<String> = jobs.iter().flat_map(|job| on_calendar(&job.when)).collect();
    lines.sort();
    lines.dedup();
    let lines: String = lines.iter().map(|line| format!("OnCalendar={line}\n")).collect();
    let timer = format!(
        "[Unit]\nDescription=When something may be due in the agenda of {}\n\n[Timer]\n{lines}# What was missed with the machine off is caught up.\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n",
        pool.spec.name.replace('%', "%%")
    );
    Ok(vec![
        Made { name: format!("{name}.service"), text: service },
        Made { name: format!("{name}.timer"), text: timer },
    ])
}

/// Calendar events of the service manager at which a job may be due. The program decides itself what is: more often is no harm.
fn on_calendar(when: &When) -> Vec<String> {
    let clock = |at: &Clock| format!("{at}:00");
    vec![match when {
        When::Minutes(minutes) if minutes % 60 == 0 && 24 % (minutes / 60) == 0 => {
            format!("*-*-* 00/{}:00:00", minutes / 60)
        }
        When::Minutes(minutes) if *minutes < 60 && 60 % minutes == 0 => format!("*-*-* *:00/{minutes}:00"),
        When::Minutes(_) | When::Rule(_) => "*-*-* *:00/15:00".into(),
        When::AfterArrival(_) => "*-*-* *:00/10:00".into(),
        When::Days { at, .. } => format!("*-*-* {}", clock(at)),
        When::Week { days, at } => format!("{} *-*-* {}", names(*days), clock(at)),
        When::MonthDay { day, at } if *day < 0 => format!("*-*~{:02} {}", -day, clock(at)),
        When::MonthDay { day, at } => format!("*-*-{day:02} {}", clock(at)),
        When::MonthWeekday { nth, day, at } if *nth < 0 => {
            format!("{} *-*~07/1 {}", names(DaySet::one(*day)), clock(at))
        }
        When::MonthWeekday { nth, day, at } => {
            let first = (nth - 1) * 7 + 1;
            format!("{} *-*-{first:02}..{:02} {}", names(DaySet::one(*day)), (first + 6).min(31), clock(at))
        }
    }]
}

fn names(days: DaySet) -> String {
    days.days().map(sieve_core::agenda::day_name).collect::<Vec<_>>().join(",")
}

/// Lines of a crontab. As with the timers, the program decides itself what is due.
fn crontab(pool: &Pool, jobs: &[Job]) -> Result<Made> {
    let word =
        |text: &Path| format!("'{}'", text.display().to_string().replace('\'', "'\\''").replace('%', "\\%"));
    let call = format!("{} --pool {} agenda --due --idle", word(&program()?), word(&pool.file));
    let mut text = format!("# What is due in the agenda of {}\n", pool.spec.name);
    let mut lines: Vec<String> =
        jobs.iter().map(|job| format!("{} {call}\n", cron_time(&job.when))).collect();
    lines.sort();
    lines.dedup();
    text.extend(lines);
    Ok(Made { name: format!("{}.cron", plain(&pool.spec.name)), text })
}

fn cron_time(when: &When) -> String {
    let clock = |at: &Clock| format!("{} {}", at.minutes() % 60, at.minutes() / 60);
    match when {
        When::Minutes(minutes) if minutes % 60 == 0 && 24 % (minutes / 60) == 0 => {
            format!("0 */{} * * *", minutes / 60)
        }
        When::Minutes(minutes) if *minutes < 60 && 60 % minutes == 0 => format!("*/{minutes} * * * *"),
        When::Minutes(_) | When::Rule(_) => "*/15 * * * *".into(),
        When::AfterArrival(_) => "*/10 * * * *".into(),
        When::Days { at, .. } => format!("{} * * *", clock(at)),
        When::Week { days, at } => format!("{} * * {}", clock(at), names(*days).to_lowercase()),
        // Cron knows no last day and takes a day of the month or of the week: the program knows which one it is.
        When::MonthDay { day, at } if *day > 0 => format!("{} {day} * *", clock(at)),
        When::MonthDay { at, .. } => format!("{} 28-31 * *", clock(at)),
        When::MonthWeekday { day, at, .. } => {
            format!("{} * * {}", clock(at), sieve_core::agenda::day_name(*day).to_lowercase())
        }
    }
}

fn program() -> Result<std::path::PathBuf> {
    std::env::current_exe().map_err(|e| Error::io("agenda.program", Path::new("/proc/self/exe"), e))
}

/// A name that any program takes as a part of a file's name.
fn plain(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect()
}
