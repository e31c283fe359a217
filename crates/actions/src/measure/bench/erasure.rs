//! How fast the erasure code runs, beside the roofline.

use std::time::Duration;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::code::{Decoder, Encoder};
use sieve_core::gf256::Kernel;
use sieve_core::units::{ParityIndex, Rate, Slot};

use super::roofline::add_up;
use super::timing::{Lanes, best_rates};

/// What is measured.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// Data disks.
    pub lanes: u8,
    /// Bytes of each in one go.
    pub block: usize,
    /// How long each figure may take.
    pub time: Duration,
}

impl Default for Shape {
    fn default() -> Self {
        Self { lanes: 8, block: 256 << 10, time: Duration::from_millis(300) }
    }
}

/// Rates in bytes of data per second, all of one run.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CodeFigures {
    /// The instructions.
    pub kernel: &'static str,
    /// A plain sum of all lanes in registers: what memory allows.
    #[serde(rename = "roofline_bytes_per_second")]
    pub roofline: Rate,
    /// Encoding 1 to 8 parities.
    pub encode: Vec<Rate>,
    /// Two lost lanes from two parities and the other lanes.
    #[serde(rename = "reconstruct_two_bytes_per_second")]
    pub reconstruct_two: Rate,
    /// Bringing two parities up to date after one lane changed (bytes of the new content).
    #[serde(rename = "update_two_bytes_per_second")]
    pub update_two: Rate,
}

/// Measures one kernel.
///
/// # Panics
/// When the shape has fewer than three lanes or none of a block.
pub fn code_figures(kernel: Kernel, shape: Shape) -> CodeFigures {
    let count = usize::from(shape.lanes);
    let slots: Vec<Slot> = (0..shape.lanes).map(Slot::new).collect();
    let parities: Vec<ParityIndex> = (0..8).map(ParityIndex::new).collect();
    let data = Lanes::filled(count, shape.block);
    let lanes = data.all();
    let bytes = (count * shape.block) as u64;
    let mut sum = Lanes::filled(1, shape.block);
    let mut computed: Vec<Lanes> = (1..=8).map(|p| Lanes::filled(p, shape.block)).collect();
    let encoders: Vec<Encoder> = (1..=8).map(|p| Encoder::new(kernel, &parities[..p], &slots)).collect();
    let decoder = Decoder::new(kernel, &slots[..2], &parities[..2], &slots[2..])
        .expect("two parities are enough for two lanes");
    let mut lost = Lanes::filled(2, shape.block);
    let held = Lanes::filled(2, shape.block);
    let held = held.all();
    let mut encodes: Vec<Box<dyn FnMut()>> = Vec::new();
    for (encoder, computed) in encoders.iter().zip(&mut computed) {
        let lanes = &lanes;
        encodes.push(Box::new(move || encoder.encode(&mut computed.all_mut(), lanes)));
    }
    let mut roofline = || add_up(sum.all_mut()[0], &lanes);
    let mut reconstruct = || decoder.decode(&mut lost.all_mut(), &held, &lanes[2..]);
    let mut ways: Vec<&mut dyn FnMut()> = vec![&mut roofline, &mut reconstruct];
    ways.extend(encodes.iter_mut().map(|way| way as &mut dyn FnMut()));
    let rates = best_rates(bytes, shape.time * 10, &mut ways);
    let (roofline, reconstruct_two, encode) = (rates[0], rates[1], rates[2..].to_vec());
    CodeFigures {
        kernel: kernel.name(),
        roofline,
        encode,
        reconstruct_two,
        update_two: update(kernel, shape),
    }
}

fn update(kernel: Kernel, shape: Shape) -> Rate {
    let slot = [Slot::new(3); 2];
    let encoder = Encoder::new(kernel, &[0, 1].map(ParityIndex::new), &slot);
    let contents = Lanes::filled(2, shape.block);
    let contents = contents.all();
    let mut parities = Lanes::filled(2, shape.block);
    let mut way = || encoder.update(&mut parities.all_mut(), &contents);
    best_rates(shape.block as u64, shape.time, &mut [&mut way])[0]
}
