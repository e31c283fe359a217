//! What the catalogue and the disks say of a volume, made into the model that the core decides fates by, and what it decides
//! given names.

mod copies;
mod file;
mod load;
mod model;
mod reason;
mod unfinished;
mod volume;

pub use copies::Elsewhere;
pub use file::FileFate;
pub use load::load;
pub use load::split_by_damage;
pub use model::VolumeModel;
pub use reason::shortage_of;
pub use reason::{Reason, RowsShort, StaleLane};
pub use unfinished::Unfinished;
pub use volume::{CountedFile, Evaluation};
