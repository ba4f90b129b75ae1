//! A command's output, bounded: the first half of the limit as it comes, and the last half kept in
//! memory until the end.

use std::{collections::VecDeque, fs::File, io::Write};

/// Keeps the head and the tail of an output.
pub struct Bounded {
    file: Option<File>,
    half: usize,
    written: usize,
    tail: VecDeque<u8>,
    left_out: u64,
}

impl Bounded {
    /// Into the file at `path`, at most about `limit` bytes.
    pub fn new(path: &str, limit: usize) -> Self {
        Self { file: File::create(path).ok(), half: limit / 2, written: 0, tail: VecDeque::new(), left_out: 0 }
    }

    /// Takes in what was printed.
    pub fn push(&mut self, bytes: &[u8]) {
        let head = bytes.len().min(self.half - self.written);
        self.write(&bytes[..head]);
        self.written += head;
        let rest = &bytes[head..];
        self.tail.extend(rest);
        let over = self.tail.len().saturating_sub(self.half);
        self.left_out += over as u64;
        self.tail.drain(..over);
    }

    /// Writes the tail.
    pub fn finish(mut self) {
        if self.left_out > 0 {
            let mark = format!("\n… {} bytes left out …\n", self.left_out);
            self.write(mark.as_bytes());
        }
        let tail: Vec<u8> = self.tail.drain(..).collect();
        self.write(&tail);
    }

    fn write(&mut self, bytes: &[u8]) {
        // On a full disk the output is lost and the outcome is not.
        if let Some(file) = &mut self.file {
            let _ = file.write_all(bytes);
        }
    }
}
