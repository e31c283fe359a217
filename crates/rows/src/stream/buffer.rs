//! Buffers that are used again and again: aligned to the lines of the cache, and begun at different places within a
//! page, so that the sources of one row do not fall on the same sets of the cache.

use std::sync::{Arc, Mutex};

/// Bytes in a line of the cache.
const LINE: usize = 64;
/// How far the beginnings of consecutive buffers lie apart within a page.
const STAGGER: usize = 5 * LINE;
const PAGE: usize = 4096;

/// One buffer on loan: it goes back when it is dropped.
pub struct Buffer {
    memory: Vec<u8>,
    start: usize,
    length: usize,
    home: Arc<Mutex<Vec<Vec<u8>>>>,
}

impl std::ops::Deref for Buffer {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.memory[self.start..self.start + self.length]
    }
}

impl std::ops::DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.memory[self.start..self.start + self.length]
    }
}

impl Drop for Buffer {
    fn drop(&mut self) {
        locked(&self.home).push(std::mem::take(&mut self.memory));
    }
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Lends buffers of one length.
pub(crate) struct Buffers {
    length: usize,
    stagger: usize,
    idle: Arc<Mutex<Vec<Vec<u8>>>>,
}

impl Buffers {
    /// Buffers for the user with that number: neighbours get other places within a page.
    pub(crate) fn new(length: usize, user: usize) -> Self {
        Self { length, stagger: user * STAGGER % PAGE, idle: Arc::default() }
    }

    /// A buffer with whatever was in it.
    pub(crate) fn lend(&self) -> Buffer {
        let idle = locked(&self.idle).pop();
        let memory = idle.unwrap_or_else(|| vec![0; self.length + 2 * PAGE]);
        let start = memory.as_ptr().align_offset(PAGE).min(PAGE) + self.stagger;
        Buffer { memory, start, length: self.length, home: Arc::clone(&self.idle) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buffers_are_aligned_staggered_and_used_again() {
        let (first, second) = (Buffers::new(1000, 0), Buffers::new(1000, 13));
        let mut one = first.lend();
        one.fill(7);
        let address = one.as_ptr();
        assert_eq!((address as usize % LINE, one.len()), (0, 1000));
        assert_ne!(second.lend().as_ptr() as usize % PAGE, address as usize % PAGE);
        drop(one);
        let again = first.lend();
        assert_eq!((again.as_ptr(), again[0]), (address, 7));
    }
}
