//! What is told of files in pieces, before and afterwards.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;

/// What becomes of files in pieces.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct PiecesPlan {
    /// Whole copies are made of these, beside their pieces.
    pub to_copy: Count,
    /// The whole copies of these take the place of their pieces, which are held.
    pub to_become_whole: Count,
    /// The whole copies of these are to be guarded by a sync first.
    pub waiting: Count,
    /// No disk has room for all of one of these now.
    pub without_room: Count,
    /// Whole copies that are not wanted any more, and are held.
    pub taken_back: Count,
    /// How long the copies take.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub forecast: Option<Forecast>,
    /// The volume is of its old kind afterwards: a sync has to come before the next run goes on.
    pub goes_on: bool,
}

/// What became of files in pieces.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct PiecesReport {
    /// Whole copies that were made.
    pub copied: Count,
    /// Files that lie whole on one disk now; their pieces are held until the next sync.
    pub became_whole: Count,
    /// Files whose whole copies a sync has to guard first.
    pub waiting: Count,
    /// Files for all of which no disk had room.
    pub without_room: Count,
    /// Whole copies that were not wanted any more, and are held until the next sync.
    pub taken_back: Count,
}
