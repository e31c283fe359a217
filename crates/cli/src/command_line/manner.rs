//! What may be said of a command before it runs: whether it is paged, asks, changes files, and what the journal calls it.

use sieve_pool::journal::Did;

use super::Command;
use crate::args::Consent;

impl Command {
    /// Whether it only shows something, which may be longer than a screen.
    pub(crate) const fn is_read_at_leisure(&self) -> bool {
        match self {
            Self::Disks { .. }
            | Self::Bays { .. }
            | Self::Ls(_)
            | Self::Where(_)
            | Self::Status { .. }
            | Self::Usage(_)
            | Self::Duplicates(_)
            | Self::Elsewhere(_)
            | Self::Fate(_)
            | Self::Risk(_)
            | Self::Design(_)
            | Self::Ingest(_)
            | Self::Check
            | Self::Route(_) => true,
            Self::Health(arguments) => arguments.self_test.is_none(),
            Self::Restore(arguments) => arguments.list,
            Self::Journal(arguments) => !arguments.follow,
            _ => false,
        }
    }

    /// Whether the result is a sentence with its reasons, which may be left out: not a list, and not a plan that somebody is
    /// asked about, or wants to see.
    pub(crate) const fn has_answer(&self) -> bool {
        match self {
            // Only reading, it asks nothing; what could be had back is a list.
            Self::Verify(arguments) if !arguments.mend => return true,
            Self::Restore(arguments) if arguments.list => return false,
            _ => {}
        }
        if let Some(consent) = self.consent() {
            return consent.yes && !consent.dry_run;
        }
        match self {
            Self::Fate(arguments) => arguments.is_a_question(),
            Self::Health(arguments) => arguments.self_test.is_none(),
            Self::Agenda(arguments) => arguments.is_only_looked_at(),
            Self::Status { .. }
            | Self::Design(_)
            | Self::Check
            | Self::Get(_)
            | Self::Drill(_)
            | Self::Risk(_)
            | Self::Elsewhere(_) => true,
            _ => false,
        }
    }

    /// Whether it is to ask before it does something, and to do it; nothing where it never asks.
    const fn consent(&self) -> Option<Consent> {
        match self {
            Self::Put(arguments) => Some(arguments.consent),
            Self::Restore(arguments) => Some(arguments.consent),
            Self::Settle(arguments) => Some(arguments.consent),
            Self::Move(arguments) => Some(arguments.consent),
            Self::Rm(arguments) => Some(arguments.consent),
            Self::BurnIn(arguments) => Some(arguments.consent),
            Self::EvenOut(arguments) => Some(arguments.consent),
            Self::Sync(arguments) => Some(arguments.consent),
            Self::Verify(arguments) => Some(arguments.consent),
            Self::Grow(arguments) => Some(arguments.consent),
            Self::Replace(arguments) => Some(arguments.consent),
            Self::Vacate(arguments) => Some(arguments.consent),
            Self::Convert(arguments) => Some(arguments.consent),
            Self::Rebuild(arguments) => Some(arguments.consent),
            Self::Rename(arguments) => Some(arguments.consent),
            Self::Dissolve(arguments) => Some(arguments.consent),
            Self::Create(consent) | Self::Adopt { consent, .. } | Self::Wipe { consent, .. } => {
                Some(*consent)
            }
            _ => None,
        }
    }

    /// Whether it may change what lies in a volume: then a mounted one looks at the disks anew.
    pub(crate) const fn changes_files(&self) -> bool {
        matches!(
            self,
            Self::Put(_)
                | Self::Rm(_)
                | Self::Restore(_)
                | Self::Settle(_)
                | Self::Move(_)
                | Self::EvenOut(_)
                | Self::Convert(_)
                | Self::Vacate(_)
                | Self::Sync(_)
                | Self::Verify(_)
        )
    }

    /// What the journal calls it, where it is to say so if it fails: what only looks leaves no trace (L3).
    pub(crate) const fn did(&self) -> Option<Did> {
        let did = match self {
            Self::Put(_) => Did::Put,
            Self::Rm(_) => Did::Remove,
            Self::Restore(_) => Did::Restore,
            Self::Settle(_) => Did::Settle,
            Self::Move(_) | Self::EvenOut(_) => Did::Shift,
            Self::Sync(_) => Did::Sync,
            Self::Verify(_) => Did::Verify,
            Self::Grow(_) => Did::Grow,
            Self::Replace(_) => Did::Replace,
            Self::Vacate(_) => Did::Vacate,
            Self::Convert(_) => Did::Convert,
            Self::Rebuild(_) => Did::Rebuild,
            Self::Dissolve(_) => Did::Dissolve,
            _ => return None,
        };
        let is_only_shown = match self.consent() {
            Some(consent) => consent.dry_run,
            None => false,
        };
        if is_only_shown { None } else { Some(did) }
    }
}
