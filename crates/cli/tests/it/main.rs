//! The built program, on files in temporary folders. One binary for all of it, so that it is linked once; only what measures
//! memory has one of its own (`../memory.rs`).

mod accidents;
mod adopt;
mod agreement;
mod burn_in;
mod cache;
mod contract;
mod design;
mod drill;
mod fate;
mod fate_any;
mod flips;
mod forecast;
mod ingest;
mod kill;
mod kinds;
mod laws;
mod lives;
mod look;
mod membership;
mod mend;
mod paper;
mod pool_file;
mod prediction;
mod prepare;
mod real_disks;
mod rebuild;
mod restore;
mod risk;
mod rot_everywhere;
mod stop;
mod tour;
mod tree;
mod unchanged_folders;
mod use_files;
mod volumes;
