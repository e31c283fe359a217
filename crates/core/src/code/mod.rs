//! The erasure code: parity j of a row is the sum over the lanes i of c(j, i) · lane(i) over GF(2^8).

mod decode;
mod encode;
mod matrix;

pub use decode::{Decoder, Unsolvable};
pub use encode::{Encoder, Encoders};
pub use matrix::coefficient;
