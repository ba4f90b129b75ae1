//! Log matching on bytes: its meaning is by line, its doing by chunk (R17).
//!
//! Whole chunks are searched with all patterns at once, and lines are looked at only where
//! something hit. Nothing is kept but half a line and the evidence, so that memory stays bounded
//! however large a log is.

use std::{collections::VecDeque, sync::Arc};

use grep_matcher::{LineMatchKind, Matcher};
use grep_regex::{RegexMatcher, RegexMatcherBuilder};
use regex::bytes::{RegexSet, RegexSetBuilder};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::LogPatterns;

/// At most so many lines of evidence are kept for a pattern; the rest are counted.
pub const EVIDENCE_LINES: usize = 200;
/// A line longer than this is judged in pieces.
pub const LONGEST_LINE: usize = 64 * 1024;
/// A line of evidence is cut to this many bytes.
const SHOWN_BYTES: usize = 2048;
/// Lines kept before and after one that matched.
const AROUND: usize = 2;

/// Why a pattern cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct PatternError(String);

/// Checks one pattern.
pub fn check_pattern(pattern: &str) -> Result<(), PatternError> {
    if let Some((all, line)) = [(r"\A", '^'), (r"\z", '$')].into_iter().find(|(all, _)| is_escaped_in(pattern, all)) {
        return Err(PatternError(format!("{all} is an end of all text, and a log is read line by line: write {line} for that of a line")));
    }
    let matcher = finder(&[pattern])?;
    if matcher.is_match(b"").unwrap_or(true) {
        return Err(PatternError("it matches an empty line, and so every line".to_owned()));
    }
    Ok(())
}

/// Whether an escape is in a pattern, and not only what looks like it behind a backslash that is meant itself.
fn is_escaped_in(pattern: &str, escape: &str) -> bool {
    let (mut rest, backslash) = (pattern, '\\');
    while let Some(at) = rest.find(backslash) {
        if rest[at..].starts_with(escape) {
            return true;
        }
        rest = rest[at + 1..].strip_prefix(backslash).unwrap_or(&rest[at + 1..]);
    }
    false
}

/// Finds lines that may match one of the patterns: what it overlooks is never judged.
fn finder(patterns: &[impl AsRef<str>]) -> Result<RegexMatcher, PatternError> {
    // The end of a line that ends with both a carriage return and a line feed is before both.
    let ends = patterns.iter().map(AsRef::as_ref).filter(|p| p.contains('$')).map(|p| format!("(?R:{p})"));
    let all: Vec<String> = patterns.iter().map(|p| p.as_ref().to_owned()).chain(ends).collect();
    RegexMatcherBuilder::new()
        .multi_line(true)
        .line_terminator(Some(b'\n'))
        .build_many(&all)
        .map_err(|e| PatternError(e.to_string().lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned()))
}

/// The compiled patterns of an act.
#[derive(Debug)]
pub struct LogMatcher {
    patterns: LogPatterns,
    /// Finds the next line that could match any pattern wanted or forbidden.
    finder: Option<RegexMatcher>,
    /// Wanted patterns first, then forbidden ones.
    set: RegexSet,
    overlook: RegexSet,
}

impl LogMatcher {
    /// Compiles patterns. Those of a vetted estate always compile.
    pub fn new(patterns: &LogPatterns) -> Result<Self, PatternError> {
        let all: Vec<&String> = patterns.must_see.iter().chain(&patterns.must_not_see).collect();
        let set = |list: &[&String]| RegexSetBuilder::new(list).build().map_err(|e| PatternError(e.to_string()));
        Ok(Self {
            finder: if all.is_empty() { None } else { Some(finder(&all)?) },
            set: set(&all)?,
            overlook: set(&patterns.overlook.iter().collect::<Vec<_>>())?,
            patterns: patterns.clone(),
        })
    }
}

/// Whether a matched line was wanted or forbidden.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Meaning {
    /// It matches a `must_see`.
    Wanted,
    /// It matches a `must_not_see` and no `overlook`.
    Forbidden,
}

/// A line that matched, with what stood around it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogHit {
    /// Whether it was wanted or forbidden.
    pub meaning: Meaning,
    /// The pattern it matched.
    pub pattern: String,
    /// Which line it is, counted from 1 from the position where looking began.
    pub line: u64,
    /// The line, with what is no UTF-8 replaced.
    pub text: String,
    /// Up to two lines before it.
    pub before: Vec<String>,
    /// Up to two lines after it.
    pub after: Vec<String>,
}

/// How often each pattern was seen.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LogCount {
    /// The lines read.
    pub lines: u64,
    /// The bytes read.
    pub bytes: u64,
    /// For each `must_see`, in order, the lines that matched.
    pub wanted: Vec<u64>,
    /// For each `must_not_see`, in order, the lines that matched and were not overlooked.
    pub forbidden: Vec<u64>,
    /// Lines that were forbidden but for an `overlook`.
    pub overlooked: u64,
}

impl LogCount {
    /// Whether each wanted pattern was seen.
    pub fn all_wanted_seen(&self) -> bool {
        self.wanted.iter().all(|n| *n > 0)
    }
    /// Whether a forbidden line was seen.
    pub fn any_forbidden(&self) -> bool {
        self.forbidden.iter().any(|n| *n > 0)
    }
}

/// One source being read, from a position on.
#[derive(Debug)]
pub struct LogScan {
    matcher: Arc<LogMatcher>,
    half: Vec<u8>,
    /// The last lines read, as far as they would be shown, for what stood before a hit.
    last: VecDeque<Vec<u8>>,
    /// Evidence whose following lines are still to come.
    open: usize,
    count: LogCount,
    hits: Vec<LogHit>,
    kept: Vec<usize>,
}

impl LogScan {
    /// Begins at the current position.
    pub fn new(matcher: Arc<LogMatcher>) -> Self {
        let (wanted, forbidden) = (matcher.patterns.must_see.len(), matcher.patterns.must_not_see.len());
        Self {
            matcher,
            half: Vec::new(),
            last: VecDeque::with_capacity(AROUND),
            open: 0,
            count: LogCount { wanted: vec![0; wanted], forbidden: vec![0; forbidden], ..LogCount::default() },
            hits: Vec::new(),
            kept: vec![0; wanted + forbidden],
        }
    }

    /// How often each pattern was seen so far.
    pub fn count(&self) -> &LogCount {
        &self.count
    }

    /// The evidence so far, in the order of the log.
    pub fn hits(&self) -> &[LogHit] {
        &self.hits
    }

    /// Reads on. The last line may be half; it is kept until its end comes.
    pub fn push(&mut self, chunk: &[u8]) {
        self.count.bytes += chunk.len() as u64;
        let mut chunk = chunk;
        if !self.half.is_empty() {
            match memchr::memchr(b'\n', chunk) {
                Some(end) => {
                    let mut line = std::mem::take(&mut self.half);
                    line.extend_from_slice(&chunk[..=end]);
                    self.whole_lines(&line);
                    chunk = &chunk[end + 1..];
                    line.clear();
                    self.half = line;
                }
                None => {
                    self.half.extend_from_slice(chunk);
                    if self.half.len() > LONGEST_LINE {
                        self.end_of_line();
                    }
                    return;
                }
            }
        }
        let whole = memchr::memrchr(b'\n', chunk).map_or(0, |end| end + 1);
        self.whole_lines(&chunk[..whole]);
        self.half.extend_from_slice(&chunk[whole..]);
    }

    /// Judges the half line as it stands: its writer fell silent or ended without a line's end.
    pub fn end_of_line(&mut self) {
        if !self.half.is_empty() {
            let line = std::mem::take(&mut self.half);
            self.whole_lines(&line);
        }
    }

    /// Whether half a line waits for its end.
    pub fn has_half_line(&self) -> bool {
        !self.half.is_empty()
    }

    fn whole_lines(&mut self, block: &[u8]) {
        if block.is_empty() {
            return;
        }
        let matcher = Arc::clone(&self.matcher);
        let (mut at, mut lines_before) = (0usize, self.count.lines);
        let mut counted_to = 0usize;
        self.take_after(block);
        while let Some(finder) = &matcher.finder {
            let found = finder.find_candidate_line(&block[at..]).unwrap_or(None);
            let Some(LineMatchKind::Confirmed(hit) | LineMatchKind::Candidate(hit)) = found else { break };
            let hit = (at + hit).min(block.len() - 1);
            let start = memchr::memrchr(b'\n', &block[..hit]).map_or(0, |e| e + 1).max(at);
            let end = memchr::memchr(b'\n', &block[hit..]).map_or(block.len(), |e| hit + e);
            lines_before += bytecount::count(&block[counted_to..start], b'\n') as u64;
            counted_to = start;
            self.judge(&matcher, block, start, end, lines_before + 1);
            at = end + 1;
            if at >= block.len() {
                break;
            }
        }
        let ends = bytecount::count(&block[counted_to..], b'\n') as u64;
        self.count.lines = lines_before + ends + u64::from(!block.ends_with(b"\n"));
        self.remember_last(block);
    }

    fn judge(&mut self, matcher: &LogMatcher, block: &[u8], start: usize, end: usize, line: u64) {
        let bytes = block[start..end].strip_suffix(b"\r").unwrap_or(&block[start..end]);
        let wanted = matcher.patterns.must_see.len();
        let mut overlooked = None;
        for i in &matcher.set.matches(bytes) {
            let (meaning, pattern) = if i < wanted {
                self.count.wanted[i] += 1;
                (Meaning::Wanted, &matcher.patterns.must_see[i])
            } else {
                // Known noise cancels only what is forbidden.
                if *overlooked.get_or_insert_with(|| matcher.overlook.is_match(bytes)) {
                    continue;
                }
                self.count.forbidden[i - wanted] += 1;
                (Meaning::Forbidden, &matcher.patterns.must_not_see[i - wanted])
            };
            if self.kept[i] < EVIDENCE_LINES {
                self.kept[i] += 1;
                let before = self.before(block, start);
                let after = following(block, end + 1);
                self.hits.push(LogHit { meaning, pattern: pattern.clone(), line, text: shown(bytes), before, after });
                self.open += 1;
                self.close_complete();
            }
        }
        self.count.overlooked += u64::from(overlooked == Some(true));
    }

    fn before(&self, block: &[u8], start: usize) -> Vec<String> {
        let mut lines: VecDeque<String> = VecDeque::new();
        let mut end = start;
        while end > 0 && lines.len() < AROUND {
            let begin = memchr::memrchr(b'\n', &block[..end - 1]).map_or(0, |e| e + 1);
            lines.push_front(shown(&block[begin..end - 1]));
            end = begin;
        }
        for line in self.last.iter().rev() {
            if lines.len() == AROUND {
                break;
            }
            lines.push_front(shown(line));
        }
        lines.into()
    }

    /// Gives the first lines of a block to the evidence of earlier ones that still wants them.
    fn take_after(&mut self, block: &[u8]) {
        if self.open == 0 {
            return;
        }
        let following = following(block, 0);
        let first = self.hits.len() - self.open;
        for hit in &mut self.hits[first..] {
            let lacks = AROUND - hit.after.len();
            hit.after.extend(following.iter().take(lacks).cloned());
        }
        self.close_complete();
    }

    /// The older the evidence, the more lines followed it.
    fn close_complete(&mut self) {
        while self.open > 0 && self.hits[self.hits.len() - self.open].after.len() >= AROUND {
            self.open -= 1;
        }
    }

    fn remember_last(&mut self, block: &[u8]) {
        let mut rest = Some(block.strip_suffix(b"\n").unwrap_or(block));
        let mut tail = [&[][..]; AROUND];
        let mut found = 0;
        while let (Some(body), true) = (rest, found < AROUND) {
            let begin = memchr::memrchr(b'\n', body);
            tail[found] = &body[begin.map_or(0, |e| e + 1)..];
            rest = begin.map(|e| &body[..e]);
            found += 1;
        }
        for line in tail[..found].iter().rev() {
            // A little more than is shown, so that it is known to be cut.
            let kept = &line[..line.len().min(SHOWN_BYTES + 2)];
            let mut again = if self.last.len() == AROUND { self.last.pop_front().unwrap_or_default() } else { Vec::new() };
            again.clear();
            again.extend_from_slice(kept);
            self.last.push_back(again);
        }
    }
}

/// The first lines of a block from a place on.
fn following(block: &[u8], from: usize) -> Vec<String> {
    let lines = block.get(from..).unwrap_or_default().split_inclusive(|b| *b == b'\n');
    lines.take(AROUND).map(|l| shown(l.strip_suffix(b"\n").unwrap_or(l))).collect()
}

fn shown(line: &[u8]) -> String {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    let cut = &line[..line.len().min(SHOWN_BYTES)];
    let mut text = String::from_utf8_lossy(cut).into_owned();
    if cut.len() < line.len() {
        text.push('…');
    }
    text
}
