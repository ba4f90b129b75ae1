//! Logs as readers follow them: the last lines, what is written then, over rotations.

use std::{
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom},
    os::unix::fs::MetadataExt,
};

use serde::{Deserialize, Serialize};
use yantro_core::{proof::logs::LONGEST_LINE, run::LogMark, words::time::Timestamp};

use crate::looks::journal::{self, Entry, is_journal};

/// So many lines before the end are read for whoever asks, and no more.
pub(super) const LINES_AT_MOST: usize = 10_000;

/// One line of a followed log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LogLine {
    /// The file it is from.
    pub source: String,
    /// The line.
    pub text: String,
    /// Where in the file it begins, in bytes.
    pub at: u64,
    /// When it was written, where its log tells that by itself, as a journal does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<Timestamp>,
}

/// Follows a log for a reader: the last lines first, then whatever is written.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LogFollow {
    pub(super) path: String,
    id: Option<(u64, u64)>,
    position: u64,
    pub(super) half: Vec<u8>,
    /// In a journal: the last entry that was read, its boot and its run of the unit.
    #[serde(default)]
    cursor: Option<String>,
    #[serde(default)]
    boot: Option<String>,
    #[serde(default)]
    invocation: Option<String>,
}

impl LogFollow {
    fn of(path: &str) -> Self {
        Self { path: path.to_owned(), id: None, position: 0, half: Vec::new(), cursor: None, boot: None, invocation: None }
    }

    /// Lines of journal entries; what another boot or another run of the unit wrote is told apart by a line between.
    fn lines_of(&mut self, entries: Vec<Entry>) -> Vec<LogLine> {
        let mut lines = Vec::new();
        for entry in entries {
            let when = Some(Timestamp::from_ms(entry.micros() / 1000));
            let mut line = |text: String| lines.push(LogLine { source: self.path.clone(), text, at: entry.micros().unsigned_abs(), when });
            if self.boot.as_ref().is_some_and(|b| *b != entry.boot) {
                line("── the host was booted anew ──".to_owned());
            } else if let (Some(before), Some(now)) = (&self.invocation, entry.invocation())
                && before != now
            {
                line("── another run of it ──".to_owned());
            }
            for text in entry.text().lines() {
                line(text.to_owned());
            }
            self.boot = Some(entry.boot.clone());
            self.invocation = entry.invocation().map(str::to_owned).or(self.invocation.take());
            self.position = entry.micros().unsigned_abs();
            self.cursor = Some(entry.cursor);
        }
        lines
    }

    /// Begins so many lines before the end, at most [`LINES_AT_MOST`]. A log that may not be read says so.
    pub fn new(path: &str, last_lines: usize) -> io::Result<(Self, Vec<LogLine>)> {
        let last_lines = last_lines.min(LINES_AT_MOST);
        let mut follow = Self::of(path);
        if is_journal(path) {
            let entries = journal::read(path, None, Some(last_lines.max(1)))?;
            let lines = follow.lines_of(entries);
            // Without anything yet, from here on.
            follow.cursor = follow.cursor.take().or_else(|| journal::mark().cursor);
            return Ok((follow, lines));
        }
        let mut file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok((follow, Vec::new())),
            Err(error) => return Err(error),
        };
        let meta = file.metadata()?;
        follow.id = Some((meta.dev(), meta.ino()));
        // Long lines are rare: this much from the end holds the lines wanted.
        let from = meta.len().saturating_sub((last_lines as u64 + 1) * 400);
        file.seek(SeekFrom::Start(from))?;
        let mut bytes = Vec::new();
        // To where it ended a moment ago: one that is written faster than it is read has no end.
        file.take(meta.len() - from).read_to_end(&mut bytes)?;
        follow.position = from + bytes.len() as u64;
        let begin = if from > 0 { bytes.iter().position(|b| *b == b'\n').map_or(0, |i| i + 1) } else { 0 };
        let mut lines = follow.split(&bytes[begin..]);
        let skip = lines.len().saturating_sub(last_lines);
        Ok((follow, lines.split_off(skip)))
    }

    /// Begins where an act was given: a position in the file that it was then, with so many lines before it. Where the
    /// log is another file by now, at that one's begin.
    pub fn since(path: &str, mark: LogMark, lines_before: usize) -> io::Result<Self> {
        let lines_before = lines_before.min(LINES_AT_MOST);
        let mut follow = Self::of(path);
        if is_journal(path) {
            follow.cursor = mark.cursor;
            return Ok(follow);
        }
        let mut file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(follow),
            Err(error) => return Err(error),
        };
        let meta = file.metadata()?;
        follow.id = Some((meta.dev(), meta.ino()));
        if mark.file.is_some() && mark.file != follow.id || mark.position > meta.len() {
            return Ok(follow);
        }
        let from = mark.position.saturating_sub((lines_before as u64 + 1) * 400);
        file.seek(SeekFrom::Start(from))?;
        let mut before = Vec::new();
        file.take(mark.position - from).read_to_end(&mut before)?;
        // So many whole lines back from the mark.
        let ends: Vec<usize> = before.iter().enumerate().filter(|(_, b)| **b == b'\n').map(|(i, _)| i + 1).collect();
        let first = if from == 0 { 0 } else { ends.first().copied().unwrap_or(before.len()) };
        let back = ends.len().checked_sub(lines_before + 1).map_or(first, |i| ends[i].max(first));
        follow.position = from + back as u64;
        Ok(follow)
    }

    /// How far it was read, in bytes.
    pub fn position(&self) -> u64 {
        self.position
    }

    /// What was written since.
    pub fn poll(&mut self) -> io::Result<Vec<LogLine>> {
        if is_journal(&self.path) {
            let entries = journal::read(&self.path, self.cursor.as_deref(), None)?;
            return Ok(self.lines_of(entries));
        }
        let meta = match fs::metadata(&self.path) {
            Ok(meta) => meta,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let id = Some((meta.dev(), meta.ino()));
        let mut lines = Vec::new();
        if id != self.id || meta.len() < self.position {
            // The old one broke off in the middle of a line: that is no part of the new one's first.
            let at = self.position.saturating_sub(self.half.len() as u64);
            let half = std::mem::take(&mut self.half);
            lines.extend((!half.is_empty()).then(|| self.line(&half, at)));
            self.id = id;
            self.position = 0;
        }
        if meta.len() == self.position {
            return Ok(lines);
        }
        let mut file = File::open(&self.path)?;
        file.seek(SeekFrom::Start(self.position))?;
        let mut bytes = Vec::new();
        file.take(1024 * 1024).read_to_end(&mut bytes)?;
        self.position += bytes.len() as u64;
        lines.extend(self.split(&bytes));
        Ok(lines)
    }

    fn line(&self, bytes: &[u8], at: u64) -> LogLine {
        let text = String::from_utf8_lossy(bytes.strip_suffix(b"\r").unwrap_or(bytes)).into_owned();
        LogLine { source: self.path.clone(), text, at, when: None }
    }

    /// Whole lines out of bytes that end at the position; of one without an end, pieces.
    fn split(&mut self, bytes: &[u8]) -> Vec<LogLine> {
        self.half.extend_from_slice(bytes);
        let mut at = self.position.saturating_sub(self.half.len() as u64);
        let Some(end) = self.half.iter().rposition(|b| *b == b'\n') else {
            if self.half.len() <= LONGEST_LINE {
                return Vec::new();
            }
            let piece = std::mem::take(&mut self.half);
            return vec![self.line(&piece, at)];
        };
        let whole: Vec<u8> = self.half.drain(..=end).collect();
        whole[..end]
            .split(|b| *b == b'\n')
            .map(|l| {
                let begins = at;
                at += l.len() as u64 + 1;
                self.line(l, begins)
            })
            .collect()
    }
}
