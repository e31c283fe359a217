//! A program that has a file mapped for writing and closed its descriptor: what it stores moves no time of the file.
#![expect(unsafe_code, reason = "a shared mapping has no safe interface: what it maps may change under it")]

use std::fs::File;
use std::os::fd::AsFd;

use rustix::mm::{MapFlags, ProtFlags, mmap, munmap};

/// A file mapped shared and for writing.
pub struct Mapping {
    at: *mut std::ffi::c_void,
    length: usize,
}

impl Mapping {
    /// Maps all of a file that is open for reading and writing; the descriptor may be closed then.
    ///
    /// # Errors
    /// What the operating system says.
    pub fn of(file: &File) -> std::io::Result<Self> {
        let length = usize::try_from(file.metadata()?.len()).unwrap_or(usize::MAX);
        let access = ProtFlags::READ | ProtFlags::WRITE;
        // SAFETY: a new mapping at a place that the kernel chooses overlaps nothing.
        let at = unsafe { mmap(std::ptr::null_mut(), length, access, MapFlags::SHARED, file.as_fd(), 0)? };
        Ok(Self { at, length })
    }

    /// Stores bytes at an offset.
    pub fn store(&mut self, offset: usize, bytes: &[u8]) {
        assert!(offset + bytes.len() <= self.length, "within the mapping");
        // SAFETY: the bytes lie within the mapping, which is writable and ours until it is dropped.
        unsafe {
            std::ptr::copy_nonoverlapping(bytes.as_ptr(), self.at.cast::<u8>().add(offset), bytes.len());
        };
    }
}

impl Drop for Mapping {
    fn drop(&mut self) {
        // SAFETY: it was mapped with this length, and nothing refers to it any more.
        let _ = unsafe { munmap(self.at, self.length) };
    }
}
