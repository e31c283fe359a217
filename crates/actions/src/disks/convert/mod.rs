//! A volume of one kind becomes one of another: files stay where they are, parity is not touched.
//!
//! Unstriped, spanned and tiered volumes lay whole files on single disks alike, and differ in what goes where from now on. A
//! mirrored volume gets its further copies from the next sync; one that was mirrored keeps one copy of each file, and what is
//! surplus is held until a sync has passed that. Files that lie in pieces, in a spanned volume, become whole first.

mod joins;
mod plan;
mod run;
mod surplus;
mod told;

pub use plan::{ConvertPlan, ConvertRequest, PreparedConvert, plan};
pub use run::{ConvertReport, execute};
pub use told::{PiecesPlan, PiecesReport};
