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
    /// Secrets that the command was given, each with what stands for it.
    mask: Vec<(String, String)>,
    /// The line that has not ended yet: half a secret is not known for one.
    line: Vec<u8>,
}

/// A line that is longer is masked in pieces.
const LONGEST_LINE: usize = 64 * 1024;

impl Bounded {
    /// Into the file at `path`, at most about `limit` bytes, with each secret masked.
    pub fn new(path: &str, limit: usize, mask: Vec<(String, String)>) -> Self {
        let file = File::create(path).ok();
        Self { file, half: limit / 2, written: 0, tail: VecDeque::new(), left_out: 0, mask, line: Vec::new() }
    }

    /// Takes in what was printed.
    pub fn push(&mut self, bytes: &[u8]) {
        if self.mask.is_empty() {
            return self.keep(bytes);
        }
        self.line.extend_from_slice(bytes);
        let whole = self.line.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
        let cut = if whole == 0 && self.line.len() > LONGEST_LINE { self.line.len() } else { whole };
        let lines: Vec<u8> = self.line.drain(..cut).collect();
        self.keep_masked(&lines);
    }

    fn keep_masked(&mut self, bytes: &[u8]) {
        let mut text = String::from_utf8_lossy(bytes).into_owned();
        for (secret, stands_for) in &self.mask {
            if text.contains(secret.as_str()) {
                text = text.replace(secret.as_str(), stands_for);
            }
        }
        self.keep(text.as_bytes());
    }

    fn keep(&mut self, bytes: &[u8]) {
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
        let rest = std::mem::take(&mut self.line);
        self.keep_masked(&rest);
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
