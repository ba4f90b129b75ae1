//! Log files read from a position on: renamed, truncated, not there yet, not to be read (R17).

mod follow;

pub use follow::{LogFollow, LogLine};

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom},
    os::unix::fs::MetadataExt,
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

use tokio::sync::Notify;
use yantro_core::{
    proof::{
        Answer,
        logs::{LogMatcher, LogScan, Meaning},
    },
    run::{LogEvidence, LogMark},
    words::kinds::StepKind,
};

use crate::{
    acts::secrets::Secrets,
    looks::{
        hung,
        journal::{self, is_journal},
    },
};

/// A writer that is silent for so long has written its line, with or without its end.
const SILENT: Duration = Duration::from_millis(500);
/// Bytes read in one go.
const CHUNK: usize = 32 * 1024;

/// Takes the position of each log: which file it is and how far it has been written.
pub fn mark_logs(paths: &[String]) -> BTreeMap<String, LogMark> {
    paths
        .iter()
        .map(|path| {
            let mark = match fs::metadata(path) {
                _ if is_journal(path) => journal::mark(),
                Ok(m) => LogMark { file: Some((m.dev(), m.ino())), position: m.len(), ..LogMark::default() },
                Err(_) => LogMark::default(),
            };
            (path.clone(), mark)
        })
        .collect()
}

/// One file being read, or a unit's part of the journal.
struct Source {
    path: String,
    mark: LogMark,
    /// Where it is none of the file system's.
    journal: Option<journal::Follow>,
    /// Lines of the run from before the act are none of its own.
    only_new: bool,
    open: Option<(File, (u64, u64))>,
    position: u64,
    grown_at: Instant,
    complete: bool,
    trouble: Option<String>,
    scan: LogScan,
}

/// The logs of an act, verified from its positions on.
pub(crate) struct LogWatch {
    sources: Vec<Source>,
    wanted: Vec<String>,
    forbids: bool,
}

impl LogWatch {
    /// Begins at the positions; nothing is opened yet.
    pub fn new(matcher: LogMatcher, marks: &BTreeMap<String, LogMark>, kind: StepKind, wanted: &[String], forbids: bool) -> Self {
        let matcher = Arc::new(matcher);
        let sources = marks
            .iter()
            .map(|(path, mark)| Source {
                path: path.clone(),
                mark: mark.clone(),
                journal: is_journal(path).then(|| journal::Follow::new(path, mark)),
                only_new: kind == StepKind::Start,
                open: None,
                position: mark.position,
                grown_at: Instant::now(),
                complete: true,
                trouble: None,
                scan: LogScan::new(Arc::clone(&matcher)),
            })
            .collect();
        Self { sources, wanted: wanted.to_vec(), forbids }
    }

    /// Opens the files, so that one renamed from now on is still read. This may hang, as reading may.
    pub fn open(&mut self) {
        self.sources.iter_mut().for_each(Source::open_marked);
    }

    /// What is asked where this is read, for whoever waits in vain.
    pub fn about(&self) -> String {
        let paths: Vec<&str> = self.sources.iter().map(|s| s.path.as_str()).collect();
        format!("the log {}", paths.join(", "))
    }

    /// Has somebody told whenever a journal has more; files tell by themselves.
    pub fn wake(&self, notify: &Arc<Notify>) {
        self.sources.iter().filter_map(|s| s.journal.as_ref()).for_each(|j| j.wake(notify));
    }

    /// Reads all that has been written since.
    pub fn poll(&mut self) {
        self.sources.iter_mut().for_each(Source::poll);
    }

    /// Whether half a line still waits for its end.
    pub fn has_half_line(&self) -> bool {
        self.sources.iter().any(|s| s.scan.has_half_line())
    }

    /// Judges half lines as they stand: the writer has ended.
    pub fn end_of_lines(&mut self) {
        self.sources.iter_mut().for_each(|s| s.scan.end_of_line());
    }

    /// What the log rung comes to.
    pub fn answer(&self) -> Answer {
        for source in &self.sources {
            if let Some(hit) = source.scan.hits().iter().find(|h| h.meaning == Meaning::Forbidden) {
                return Answer::against(format!("forbidden line in {}: \"{}\"", short(&source.path), hit.text));
            }
        }
        if let Some((source, why)) = self.sources.iter().find_map(|s| s.trouble.as_ref().map(|t| (s, t))) {
            return Answer::could_not(format!("{} cannot be read: {why}", source.path));
        }
        let mut last = None;
        for (i, pattern) in self.wanted.iter().enumerate() {
            let seen = self.sources.iter().find(|s| s.scan.count().wanted[i] > 0);
            match seen {
                None => return Answer::not_yet(format!("no line \"{pattern}\" yet")),
                Some(source) => last = source.scan.hits().iter().find(|h| h.pattern == *pattern),
            }
        }
        if self.forbids
            && let Some(source) = self.sources.iter().find(|s| !s.complete)
        {
            return Answer::not_yet(format!("{} was cut off: that nothing forbidden was in it cannot be shown", short(&source.path)));
        }
        match last {
            Some(hit) => Answer::holds(format!("line \"{}\"", hit.text)),
            None => Answer::holds("no forbidden line"),
        }
    }

    /// The evidence so far, secrets masked.
    pub fn evidence(&self, secrets: &Secrets) -> Vec<LogEvidence> {
        let evidence = |s: &Source| {
            let mut hits = s.scan.hits().to_vec();
            for hit in &mut hits {
                hit.text = secrets.mask(&hit.text);
                hit.before.iter_mut().chain(&mut hit.after).for_each(|l| *l = secrets.mask(l));
            }
            LogEvidence { source: s.path.clone(), count: s.scan.count().clone(), hits, complete: s.complete }
        };
        self.sources.iter().map(evidence).filter(|e| e.count.bytes > 0 || !e.complete).collect()
    }
}

fn short(path: &str) -> String {
    let mut parts: Vec<&str> = path.rsplit('/').take(2).collect();
    parts.reverse();
    parts.join("/")
}

impl Source {
    /// Opens the file the position was taken in, even where it was renamed since.
    fn open_marked(&mut self) {
        let Some(id) = self.mark.file else { return };
        let path = Path::new(&self.path);
        let is_it = |p: &Path| fs::metadata(p).is_ok_and(|m| (m.dev(), m.ino()) == id);
        let found = if is_it(path) {
            Some(path.to_path_buf())
        } else {
            let beside = path.parent().and_then(|dir| fs::read_dir(dir).ok());
            beside.into_iter().flatten().flatten().map(|e| e.path()).find(|p| is_it(p))
        };
        match found.as_deref().map(File::open) {
            Some(Ok(file)) => self.open = Some((file, id)),
            Some(Err(error)) => self.trouble = Some(error.to_string()),
            None => {
                // What was written between the position and its disappearance cannot be read.
                self.complete = false;
                self.position = 0;
            }
        }
    }

    fn poll(&mut self) {
        if let Some(journal) = &self.journal {
            let (entries, trouble) = journal.take();
            self.trouble = trouble;
            for entry in entries {
                if self.only_new && self.mark.invocation.is_some() && entry.invocation() == self.mark.invocation.as_deref() {
                    continue;
                }
                self.grown_at = Instant::now();
                let text = entry.text();
                self.scan.push(text.as_bytes());
                self.scan.push(b"\n");
            }
            return;
        }
        if let Err(error) = self.read_on() {
            self.trouble = Some(error.to_string());
        }
        if self.scan.has_half_line() && self.grown_at.elapsed() >= SILENT {
            self.scan.end_of_line();
        }
    }

    fn read_on(&mut self) -> io::Result<()> {
        let there = match fs::metadata(&self.path) {
            Ok(m) => Some(m),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(error),
        };
        if self.open.is_some() {
            self.read_open()?;
        }
        let Some(there) = there else { return Ok(()) };
        let id = (there.dev(), there.ino());
        match &self.open {
            Some((_, open)) if *open == id => {}
            Some(_) => {
                // Renamed, and the old one read to its end: the new one from its start.
                self.scan.end_of_line();
                self.open = Some((File::open(&self.path)?, id));
                self.position = 0;
                self.read_open()?;
            }
            None => {
                self.open = Some((File::open(&self.path)?, id));
                self.read_open()?;
            }
        }
        self.trouble = None;
        Ok(())
    }

    fn read_open(&mut self) -> io::Result<()> {
        let Some((file, _)) = &mut self.open else { return Ok(()) };
        let meta = file.metadata()?;
        if meta.is_dir() {
            return Err(io::ErrorKind::IsADirectory.into());
        }
        // Its length is asked of the open file, and before reading: one that grows meanwhile must not
        // look as if it had been cut off.
        if meta.len() < self.position {
            // Truncated: from its start again, and what was in between may be lost.
            self.complete = false;
            self.position = 0;
            self.scan.end_of_line();
        }
        let waiting = meta.len() - self.position;
        if waiting == 0 {
            return Ok(());
        }
        file.seek(SeekFrom::Start(self.position))?;
        // As much as there is to read, and a byte more, so that the end is seen in the same go.
        let mut buffer = vec![0u8; CHUNK.min(waiting as usize + 1)];
        loop {
            let n = file.read(&mut buffer)?;
            if n == 0 {
                return Ok(());
            }
            self.position += n as u64;
            self.grown_at = Instant::now();
            self.scan.push(&buffer[..n]);
        }
    }
}

/// What a file has from a position on, at most a megabyte, and the position after it. Without a position: its end.
/// A character that is cut at the end is left for the next time.
pub(crate) fn read_from(path: &str, from: Option<u64>) -> io::Result<(u64, String)> {
    let mut file = match File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok((0, String::new())),
        Err(error) => return Err(error),
    };
    let Some(from) = from else { return Ok((file.metadata()?.len(), String::new())) };
    file.seek(SeekFrom::Start(from))?;
    let mut bytes = Vec::new();
    file.take(1024 * 1024).read_to_end(&mut bytes)?;
    let whole = match std::str::from_utf8(&bytes) {
        Err(error) if error.error_len().is_none() && error.valid_up_to() > 0 => error.valid_up_to(),
        _ => bytes.len(),
    };
    Ok((from + whole as u64, String::from_utf8_lossy(&bytes[..whole]).into_owned()))
}

/// The same for whoever may not be kept waiting: a file that hangs is said to.
pub(crate) async fn read_file(path: &str, from: Option<u64>) -> Result<(u64, String), String> {
    let of = path.to_owned();
    hung::asking(&format!("the file {path}"), hung::WITHIN, move || read_from(&of, from).map_err(|e| e.to_string())).await?
}

/// Opens a log for a reader who may not be kept waiting: from a mark on, or so many lines before its end.
pub(crate) async fn open_log(path: &str, since: Option<LogMark>, lines: usize) -> Result<(LogFollow, Vec<LogLine>), String> {
    let of = path.to_owned();
    let open = move || match since {
        Some(mark) => LogFollow::since(&of, mark, lines).map(|f| (f, Vec::new())).map_err(|e| e.to_string()),
        None => LogFollow::new(&of, lines).map_err(|e| e.to_string()),
    };
    hung::asking(&format!("the log {path}"), hung::WITHIN, open).await?
}

/// What was written to a followed log since, for a reader who may not be kept waiting.
pub(crate) async fn read_log(mut follow: LogFollow) -> Result<(LogFollow, Vec<LogLine>), String> {
    let about = format!("the log {}", follow.path);
    let read = move || {
        let lines = follow.poll().map_err(|e| e.to_string())?;
        Ok((follow, lines))
    };
    hung::asking(&about, hung::WITHIN, read).await?
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use rstest::rstest;
    use yantro_core::{model::LogPatterns, proof::Verdict};

    use yantro_core::proof::logs::LONGEST_LINE;

    use super::{follow::LINES_AT_MOST, *};

    struct Log {
        _dir: tempfile::TempDir,
        path: String,
    }

    fn log(before: &str) -> Log {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("gate.log").display().to_string();
        if !before.is_empty() {
            fs::write(&path, before).unwrap();
        }
        Log { _dir: dir, path }
    }

    fn append(path: &str, text: &str) {
        fs::OpenOptions::new().append(true).create(true).open(path).unwrap().write_all(text.as_bytes()).unwrap();
    }

    fn watch(path: &str) -> LogWatch {
        let patterns = LogPatterns { must_see: vec!["ready".into()], must_not_see: vec!["ERROR".into()], overlook: vec![] };
        let marks = mark_logs(&[path.to_owned()]);
        let mut watch = LogWatch::new(LogMatcher::new(&patterns).unwrap(), &marks, StepKind::Start, &patterns.must_see, true);
        watch.open();
        watch
    }

    #[rstest]
    #[case::old_lines_do_not_count("ready\n", &[], Verdict::NotYet)]
    #[case::a_new_line_does("ready\n", &["ready\n"], Verdict::Holds)]
    #[case::no_file_yet("", &["ready\n"], Verdict::Holds)]
    #[case::a_forbidden_one_outweighs("", &["ready\n", "ERROR\n"], Verdict::Against)]
    fn from_this_start_on(#[case] before: &str, #[case] written: &[&str], #[case] verdict: Verdict) {
        let log = log(before);
        let mut watch = watch(&log.path);
        for text in written {
            append(&log.path, text);
            watch.poll();
        }
        watch.poll();
        assert_eq!(watch.answer().verdict, verdict, "{}", watch.answer().says);
    }

    #[test]
    fn a_renamed_log_is_read_to_its_end_and_then_the_new_one() {
        let log = log("old\n");
        let mut watch = watch(&log.path);
        append(&log.path, "ERR");
        fs::rename(&log.path, format!("{}.1", log.path)).unwrap();
        append(&format!("{}.1", log.path), "OR late\n");
        append(&log.path, "ready\n");
        watch.poll();
        assert_eq!(watch.answer().verdict, Verdict::Against);
    }

    #[test]
    fn a_truncated_log_cannot_show_that_nothing_was_forbidden() {
        let log = log("a long line that stood here before\n");
        let mut watch = watch(&log.path);
        fs::write(&log.path, "ready\n").unwrap();
        watch.poll();
        let answer = watch.answer();
        assert_eq!(answer.verdict, Verdict::NotYet);
        assert!(answer.says.contains("was cut off"), "{}", answer.says);
    }

    #[test]
    fn a_log_that_grows_while_it_is_read_was_not_cut_off() {
        let log = log("ERROR before the act\n");
        let mut watch = watch(&log.path);
        let writer = {
            let path = log.path.clone();
            std::thread::spawn(move || {
                let mut file = fs::OpenOptions::new().append(true).open(path).unwrap();
                for i in 0..20_000 {
                    writeln!(file, "lane {i} open").unwrap();
                }
            })
        };
        while !writer.is_finished() {
            watch.poll();
        }
        writer.join().unwrap();
        append(&log.path, "ready\n");
        watch.poll();
        let answer = watch.answer();
        assert_eq!(answer.verdict, Verdict::Holds, "{}", answer.says);
        assert_eq!(watch.sources[0].scan.count().lines, 20_001, "each line once");
    }

    #[test]
    fn a_log_that_may_not_be_read_neither_proves_nor_condemns() {
        let log = log("x\n");
        let mut watch = watch(&log.path);
        fs::remove_file(&log.path).unwrap();
        fs::create_dir(&log.path).unwrap();
        watch.poll();
        assert_eq!(watch.answer().verdict, Verdict::CouldNotLook, "{}", watch.answer().says);
    }

    #[test]
    fn a_reader_gets_the_last_lines_and_what_follows() {
        let log = log("one\ntwo\nthree\n");
        let (mut follow, last) = LogFollow::new(&log.path, 2).unwrap();
        assert_eq!(last.iter().map(|l| l.text.as_str()).collect::<Vec<_>>(), ["two", "three"]);
        append(&log.path, "four\nfi");
        assert_eq!(follow.poll().unwrap().len(), 1);
        append(&log.path, "ve\n");
        assert_eq!(follow.poll().unwrap()[0].text, "five");
    }

    /// A log is rotated where its writer pleases: the reader neither joins two files to one line nor counts the one by the other.
    #[rstest]
    #[case::with_less_than_was_held("x\n", &["half", "x"])]
    #[case::with_nothing_yet("", &["half"])]
    #[case::with_more("a longer line than that\nand another\n", &["half", "a longer line than that", "and another"])]
    fn a_reader_goes_over_from_half_a_line_to_the_next_file(#[case] next: &str, #[case] wanted: &[&str]) {
        let log = log("one\n");
        let (mut follow, _) = LogFollow::new(&log.path, 1).unwrap();
        append(&log.path, "half");
        assert!(follow.poll().unwrap().is_empty());
        fs::rename(&log.path, format!("{}.1", log.path)).unwrap();
        fs::write(&log.path, next).unwrap();
        let lines = follow.poll().unwrap();
        assert_eq!(texts(&lines), wanted);
        assert!(lines.iter().skip(1).all(|l| next[l.at as usize..].starts_with(&l.text)), "{lines:?}");
        append(&log.path, "more\n");
        assert_eq!(texts(&follow.poll().unwrap()), ["more"]);
    }

    #[test]
    fn a_reader_of_a_line_without_an_end_gets_it_in_pieces_and_holds_little() {
        let log = log("");
        let (mut follow, _) = LogFollow::new(&log.path, 1).unwrap();
        let piece = "x".repeat(100_000);
        let mut got = 0;
        for _ in 0..20 {
            append(&log.path, &piece);
            got += follow.poll().unwrap().iter().map(|l| l.text.len()).sum::<usize>();
            assert!(follow.half.len() <= LONGEST_LINE, "{} bytes are held", follow.half.len());
        }
        assert_eq!(got, 2_000_000);
    }

    #[test]
    fn nobody_gets_more_lines_before_the_end_than_anybody_reads() {
        let log = log(&"line\n".repeat(LINES_AT_MOST + 5));
        let (_, last) = LogFollow::new(&log.path, usize::MAX).unwrap();
        assert_eq!(last.len(), LINES_AT_MOST);
    }

    fn texts(lines: &[LogLine]) -> Vec<&str> {
        lines.iter().map(|l| l.text.as_str()).collect()
    }

    /// From where an act was given on, with lines before it; each knows its place in the file.
    #[rstest]
    #[case::from_the_mark_on(8, 0, &["three", "four"])]
    #[case::a_line_before(8, 1, &["two", "three", "four"])]
    #[case::more_before_than_there_are(8, 9, &["one", "two", "three", "four"])]
    #[case::from_the_begin(0, 3, &["one", "two", "three", "four"])]
    #[case::the_end(19, 0, &[])]
    fn a_reader_begins_where_an_act_was_given(#[case] position: u64, #[case] before: usize, #[case] wanted: &[&str]) {
        let log = log("one\ntwo\nthree\nfour\n");
        let file = mark_logs(std::slice::from_ref(&log.path))[&log.path].file;
        let mut follow = LogFollow::since(&log.path, LogMark { file, position, ..LogMark::default() }, before).unwrap();
        let lines = follow.poll().unwrap();
        assert_eq!(texts(&lines), wanted);
        let whole = "one\ntwo\nthree\nfour\n";
        assert!(lines.iter().all(|l| whole[l.at as usize..].starts_with(&l.text)), "{lines:?}");
        append(&log.path, "five\n");
        assert_eq!(texts(&follow.poll().unwrap()), ["five"]);
    }

    #[rstest]
    #[case::another_file(Some((0, 0)), 4)]
    #[case::cut_short_since(None, 4_000)]
    fn a_log_that_is_another_by_now_is_read_from_its_begin(#[case] file: Option<(u64, u64)>, #[case] position: u64) {
        let log = log("one\ntwo\n");
        let mut follow = LogFollow::since(&log.path, LogMark { file, position, ..LogMark::default() }, 0).unwrap();
        assert_eq!(texts(&follow.poll().unwrap()), ["one", "two"]);
    }
}
