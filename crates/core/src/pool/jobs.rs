//! What is done when, and who is told, as a pool file says it.

use std::ops::Range;

use super::share::Share;
use crate::agenda::{Hours, Task, When};

/// When the machine is on, when disks are not to be heard, and what is to be done.
#[derive(Clone, Debug, PartialEq)]
pub struct AgendaSpec {
    /// When the machine is on; always, where nothing is said.
    pub awake: Hours,
    /// When disks are not to be heard.
    pub quiet_hours: Hours,
    /// Seconds after which a disk that nobody uses sleeps.
    pub sleeps_after: f64,
    /// The jobs, in the order of the file.
    pub jobs: Vec<JobSpec>,
}

impl Default for AgendaSpec {
    fn default() -> Self {
        let (awake, quiet_hours) = (Hours::default(), Hours::default());
        Self { awake, quiet_hours, sleeps_after: 1200.0, jobs: Vec::new() }
    }
}

/// One job.
#[derive(Clone, Debug, PartialEq)]
pub struct JobSpec {
    /// What it is called: what it does, and of what, where nobody says.
    pub name: String,
    /// What it does.
    pub task: Task,
    /// The volume that it is about; all, where it says none.
    pub volume: Option<String>,
    /// The disks that test themselves; all, where it says none.
    pub disks: Vec<String>,
    /// When.
    pub when: When,
    /// The share of the rows that a verify reads.
    pub share: Option<Share>,
    /// The file that a report or a listing is written to.
    pub file: Option<String>,
    /// It is not in the agenda: an older key of the file says it.
    pub implied_by: Option<&'static str>,
    /// Where it stands in the file.
    pub span: Range<usize>,
}

/// Who is told.
#[derive(Clone, Debug, PartialEq)]
pub struct NoticeSpec {
    /// Seconds after which something that still holds is told again.
    pub remind_after: f64,
    /// By which ways.
    pub channels: Vec<ChannelSpec>,
}

impl Default for NoticeSpec {
    fn default() -> Self {
        Self { remind_after: 3.0 * 86_400.0, channels: Vec::new() }
    }
}

/// One way by which somebody is told.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelSpec {
    /// What it is called: its kind, where nobody says.
    pub name: String,
    /// Which way.
    pub channel: Channel,
}

/// A way by which somebody is told.
#[derive(Clone, Debug, PartialEq)]
pub enum Channel {
    /// A program that gets each notice as JSON on its standard input.
    Command {
        /// The program and its arguments.
        command: Vec<String>,
    },
    /// A mail, handed to a server.
    Mail {
        /// The server, `host` or `host:port`.
        server: String,
        /// The sender.
        from: String,
        /// The receivers.
        to: Vec<String>,
        /// The name that the server asks for.
        user: Option<String>,
        /// The file whose first line is the password.
        password_file: Option<String>,
        /// The environment variable that is the password.
        password_variable: Option<String>,
        /// The line is in the open: for a server on this machine alone.
        plain: bool,
    },
    /// A POST of JSON.
    Post {
        /// Where to.
        url: String,
    },
    /// A line in the system's log.
    SystemLog,
}
