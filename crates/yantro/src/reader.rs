//! Reads followed lines at a terminal: search, pause, only what matches, jumps to the acts.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::{
    Frame,
    layout::{Constraint, Layout},
    style::{Modifier, Style, Stylize},
    text::{Line, Span},
    widgets::Paragraph,
};
use yantro_core::words::name::Address;
use yantro_server::wire::FollowedLine;

use crate::{foreign, marks};

/// Lines kept: a night's worth to scroll back in, and bounded.
const KEPT: usize = 20_000;
/// How wide the column of addresses may be.
const NAMES: usize = 28;

/// Which logs each service has, as far as lines of them came: where it has several, each line says of which it is.
#[derive(Debug, Default)]
pub struct LogsOf(BTreeMap<Address, BTreeSet<String>>);

impl LogsOf {
    /// Takes note of a line's log.
    pub fn learn(&mut self, line: &FollowedLine) {
        if line.act.is_none() && !self.0.get(&line.address).is_some_and(|logs| logs.contains(&line.source)) {
            self.0.entry(line.address.clone()).or_default().insert(line.source.clone());
        }
    }

    /// What stands before a line: its service, and its log where that has several.
    pub fn name(&self, line: &FollowedLine) -> String {
        let several = line.act.is_none() && self.0.get(&line.address).is_some_and(|logs| logs.len() > 1);
        if several { format!("{} {}", line.address, line.log()) } else { line.address.to_string() }
    }
}

/// What comes after a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// Go on.
    GoOn,
    /// Leave.
    Leave,
}

/// The lines, and which of them are looked at.
pub struct Reader {
    of: String,
    lines: VecDeque<FollowedLine>,
    /// How many lines were dropped at the front.
    dropped: usize,
    /// The line at the bottom of the view; without one, the newest.
    bottom: Option<usize>,
    /// What came while it was paused.
    unseen: usize,
    search: String,
    /// The search being typed.
    typing: Option<String>,
    only: bool,
    height: usize,
    names: usize,
    logs: LogsOf,
}

impl Reader {
    /// Nothing read yet.
    pub fn new(of: String, search: String) -> Self {
        let only = !search.is_empty();
        Self {
            of,
            lines: VecDeque::new(),
            dropped: 0,
            bottom: None,
            unseen: 0,
            search,
            typing: None,
            only,
            height: 1,
            names: 8,
            logs: LogsOf::default(),
        }
    }

    /// Takes a line in.
    pub fn push(&mut self, mut line: FollowedLine) {
        // What a log holds is shown, and never acts on the terminal.
        line.text = foreign::printed(&line.text.replace('\t', "    ")).replace(['\n', '\x1b'], "␛");
        self.logs.learn(&line);
        self.names = self.names.max(self.logs.name(&line).chars().count().min(NAMES));
        if self.bottom.is_some() && self.is_shown(&line) {
            self.unseen += 1;
        }
        self.lines.push_back(line);
        if self.lines.len() > KEPT {
            self.lines.pop_front();
            self.dropped += 1;
        }
    }

    fn matches(&self, line: &FollowedLine) -> bool {
        let search = self.search.to_lowercase();
        !search.is_empty() && (line.text.to_lowercase().contains(&search) || line.address.to_string().contains(&search))
    }

    /// Acts stay in view: they are what the lines around them are read by.
    fn is_shown(&self, line: &FollowedLine) -> bool {
        !self.only || self.search.is_empty() || line.act.is_some() || line.unreadable || self.matches(line)
    }

    /// The numbers of all lines that are shown, counted from the first that ever came.
    fn shown(&self) -> Vec<usize> {
        self.lines.iter().enumerate().filter(|(_, l)| self.is_shown(l)).map(|(i, _)| i + self.dropped).collect()
    }

    fn line(&self, number: usize) -> Option<&FollowedLine> {
        self.lines.get(number.checked_sub(self.dropped)?)
    }

    fn scroll(&mut self, by: isize) {
        let shown = self.shown();
        let Some(last) = shown.len().checked_sub(1) else { return };
        let now = self.bottom.map_or(last, |b| shown.partition_point(|n| *n <= b).saturating_sub(1));
        let next = now.saturating_add_signed(by).clamp(self.height.saturating_sub(1).min(last), last);
        self.stand_at(if next == last && by > 0 { None } else { Some(shown[next]) });
    }

    fn stand_at(&mut self, bottom: Option<usize>) {
        self.bottom = bottom;
        if bottom.is_none() {
            self.unseen = 0;
        }
    }

    /// Brings the next line into view for which this holds, forwards or backwards from the middle of it.
    fn jump(&mut self, forwards: bool, wanted: impl Fn(&Self, &FollowedLine) -> bool) {
        let shown = self.shown();
        let Some(last) = shown.len().checked_sub(1) else { return };
        let bottom = self.bottom.map_or(last, |b| shown.partition_point(|n| *n <= b).saturating_sub(1));
        // What was jumped to stands a third from the top.
        let third = self.height / 3;
        let at = bottom.saturating_sub(self.height.saturating_sub(1 + third));
        let fits = |i: &usize| self.line(shown[*i]).is_some_and(|l| wanted(self, l));
        let from_here = if self.bottom.is_none() && !forwards { last + 1 } else { at };
        let found = if forwards { (from_here + 1..=last).find(fits) } else { (0..from_here).rev().find(fits) };
        if let Some(found) = found {
            let bottom = (found + self.height.saturating_sub(1 + third)).min(last);
            self.stand_at(Some(shown[bottom.max(self.height.saturating_sub(1).min(last))]));
        }
    }

    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent) -> After {
        if let KeyCode::Char('c') = key.code
            && key.modifiers.contains(KeyModifiers::CONTROL)
        {
            return After::Leave;
        }
        if let Some(typed) = &mut self.typing {
            match key.code {
                KeyCode::Enter => {
                    self.search = self.typing.take().unwrap_or_default();
                    self.jump(false, Self::matches);
                }
                KeyCode::Esc => self.typing = None,
                KeyCode::Backspace => drop(typed.pop()),
                KeyCode::Char(c) => typed.push(c),
                _ => {}
            }
            return After::GoOn;
        }
        let page = self.height.max(2) as isize - 1;
        match key.code {
            KeyCode::Char('q') => return After::Leave,
            KeyCode::Char(' ') => {
                let newest = self.lines.len() + self.dropped;
                self.stand_at(if self.bottom.is_some() { None } else { newest.checked_sub(1) });
            }
            KeyCode::Char('/') => self.typing = Some(String::new()),
            KeyCode::Char('n') => self.jump(false, Self::matches),
            KeyCode::Char('N') => self.jump(true, Self::matches),
            KeyCode::Char('o') => self.only = !self.only,
            KeyCode::Char('a') => self.jump(false, |_, l| l.act.is_some()),
            KeyCode::Char('A') => self.jump(true, |_, l| l.act.is_some()),
            KeyCode::Up => self.scroll(-1),
            KeyCode::Down => self.scroll(1),
            KeyCode::PageUp => self.scroll(-page),
            KeyCode::PageDown => self.scroll(page),
            KeyCode::Home => self.scroll(isize::MIN / 2),
            KeyCode::End => self.stand_at(None),
            _ => {}
        }
        After::GoOn
    }

    /// Draws it.
    pub fn draw(&mut self, frame: &mut Frame<'_>) {
        let [head, body, foot] = Layout::vertical([Constraint::Length(1), Constraint::Fill(1), Constraint::Length(1)]).areas(frame.area());
        self.height = usize::from(body.height).max(1);
        let shown = self.shown();
        let end = self.bottom.map_or(shown.len(), |b| shown.partition_point(|n| *n <= b));
        let begin = end.saturating_sub(self.height);
        let rows: Vec<Line<'_>> = shown[begin..end].iter().filter_map(|n| self.line(*n)).map(|l| self.row(l)).collect();
        let state = match (self.bottom.is_some(), self.unseen) {
            (false, _) => "following".to_owned(),
            (true, 0) => "paused".to_owned(),
            (true, n) => format!("paused, {n} new"),
        };
        let found = self.lines.iter().filter(|l| self.matches(l)).count();
        let search = match (self.search.is_empty(), self.only) {
            (true, _) => String::new(),
            (false, false) => format!("  /{}: {found} match", self.search),
            (false, true) => format!("  /{}: only the {found} that match", self.search),
        };
        let head_line = Line::from(vec![Span::raw(format!("{} ", self.of)).bold(), Span::raw(format!("  {state}{search}"))]);
        frame.render_widget(Paragraph::new(head_line).style(Style::new().add_modifier(Modifier::REVERSED)), head);
        frame.render_widget(Paragraph::new(rows), body);
        let help = match &self.typing {
            Some(typed) => {
                Line::from(vec![Span::raw(format!("/{typed}▏")).bold(), Span::raw("  Enter searches back from here, Esc leaves it")])
            }
            None => {
                Line::raw("Space pause  / search  n N back, on  o only matching  a A act before, after  ↑↓ PgUp PgDn Home End  q leave")
                    .dim()
            }
        };
        frame.render_widget(Paragraph::new(help), foot);
    }

    fn row<'l>(&self, line: &'l FollowedLine) -> Line<'l> {
        let name = format!("{:<width$} ", self.logs.name(line).chars().take(self.names).collect::<String>(), width = self.names);
        if let Some(act) = &line.act {
            return Line::from(vec![Span::raw(name), Span::raw(format!("── {} {} ──", marks::moment(act.at), line.text))]).bold().cyan();
        }
        let mut spans = vec![Span::raw(name).dim()];
        if let Some(when) = line.when {
            spans.push(Span::raw(format!("{} ", marks::moment(when))).dim());
        }
        if line.unreadable {
            spans.push(Span::raw(format!("{}: {}", line.source, line.text)).red());
            return Line::from(spans);
        }
        let (text, search) = (&line.text, self.search.to_lowercase());
        // Where lower case has other lengths, places do not agree: then the line is shown as it is.
        let lower = text.to_lowercase();
        let mut at = 0;
        if !search.is_empty() && lower.len() == text.len() {
            for (found, _) in lower.match_indices(&search) {
                if let (Some(before), Some(hit)) = (text.get(at..found), text.get(found..found + search.len())) {
                    spans.push(Span::raw(before));
                    spans.push(Span::raw(hit).reversed());
                    at = found + search.len();
                }
            }
        }
        spans.push(Span::raw(&text[at..]));
        Line::from(spans)
    }
}

#[cfg(test)]
mod tests {
    use ratatui::{Terminal, backend::TestBackend};
    use rstest::rstest;
    use yantro_core::{plan::StepId, run::RunId, words::time::Timestamp};
    use yantro_server::wire::FollowedAct;

    use super::*;

    fn line(text: &str) -> FollowedLine {
        FollowedLine {
            address: "quay/db".parse().unwrap(),
            source: "db.log".into(),
            text: text.into(),
            when: None,
            unreadable: false,
            act: None,
        }
    }

    fn act(text: &str) -> FollowedLine {
        FollowedLine { act: Some(FollowedAct { run: RunId(7), step: StepId(2), at: Timestamp::from_ms(0) }), ..line(text) }
    }

    /// Forty lines, every tenth after an act.
    fn reader() -> Reader {
        let mut reader = Reader::new("db".into(), String::new());
        for n in 0..40 {
            if n % 10 == 0 {
                reader.push(act(&format!("start {n}")));
            }
            reader.push(line(&format!("line {n}{}", if n % 7 == 0 { " READY" } else { "" })));
        }
        reader
    }

    fn drawn(reader: &mut Reader) -> Vec<String> {
        let mut terminal = Terminal::new(TestBackend::new(60, 12)).unwrap();
        terminal.draw(|frame| reader.draw(frame)).unwrap();
        let buffer = terminal.backend().buffer().clone();
        (0..12).map(|y| (0..60).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned()).collect()
    }

    fn press(reader: &mut Reader, keys: &str) -> After {
        let mut after = After::GoOn;
        for key in keys.split(' ') {
            let code = match key {
                "Enter" => KeyCode::Enter,
                "Esc" => KeyCode::Esc,
                "Space" => KeyCode::Char(' '),
                "Up" => KeyCode::Up,
                "Home" => KeyCode::Home,
                "End" => KeyCode::End,
                "PgUp" => KeyCode::PageUp,
                letter => KeyCode::Char(letter.chars().next().unwrap()),
            };
            // A picture first: how far a page goes is known from it.
            drawn(reader);
            after = reader.key(KeyEvent::new(code, KeyModifiers::NONE));
        }
        after
    }

    #[rstest]
    #[case::newest_last("End", "line 39")]
    #[case::a_line_up("Up", "line 38")]
    #[case::a_page_up("PgUp", "line 30")]
    #[case::the_first_page("Home", "line 8")]
    #[case::there_and_back("Home End", "line 39")]
    fn it_is_scrolled(#[case] keys: &str, #[case] bottom: &str) {
        let mut reader = reader();
        press(&mut reader, keys);
        let view = drawn(&mut reader);
        assert!(view[10].ends_with(bottom), "{view:#?}");
        assert_eq!(view[0].contains("paused"), bottom != "line 39", "{}", view[0]);
    }

    #[test]
    fn paused_it_stands_still_and_counts_what_comes() {
        let mut reader = reader();
        press(&mut reader, "Space");
        reader.push(line("news"));
        let view = drawn(&mut reader);
        assert!(view[0].contains("paused, 1 new") && view[10].ends_with("line 39"), "{view:#?}");
        press(&mut reader, "Space");
        let view = drawn(&mut reader);
        assert!(view[0].contains("following") && view[10].ends_with("news"), "{view:#?}");
    }

    #[test]
    fn what_is_searched_for_is_jumped_to_whatever_its_case() {
        let mut reader = reader();
        press(&mut reader, "/ r e a d y Enter");
        let view = drawn(&mut reader);
        assert!(view[0].contains("/ready: 6 match"), "{}", view[0]);
        assert!(view.iter().any(|l| l.ends_with("line 35 READY")), "{view:#?}");
        press(&mut reader, "n");
        assert!(drawn(&mut reader).iter().any(|l| l.ends_with("line 28 READY")));
        press(&mut reader, "N");
        assert!(drawn(&mut reader).iter().any(|l| l.ends_with("line 35 READY")));
        press(&mut reader, "o End");
        let view = drawn(&mut reader);
        assert!(view[0].contains("only the 6 that match"), "{}", view[0]);
        assert!(view[1..11].iter().all(|l| l.is_empty() || l.contains("READY") || l.contains("──")), "acts stay in view: {view:#?}");
    }

    #[test]
    fn a_search_left_by_escape_changes_nothing() {
        let mut reader = reader();
        press(&mut reader, "/ q Esc");
        assert!(drawn(&mut reader)[0].contains("following"));
        assert_eq!(press(&mut reader, "q"), After::Leave);
    }

    #[test]
    fn acts_are_jumped_between() {
        let mut reader = reader();
        press(&mut reader, "a");
        assert!(drawn(&mut reader).iter().any(|l| l.contains("start 30")));
        press(&mut reader, "a");
        assert!(drawn(&mut reader).iter().any(|l| l.contains("start 20")));
        press(&mut reader, "A");
        assert!(drawn(&mut reader).iter().any(|l| l.contains("start 30")));
    }

    #[test]
    fn what_a_log_holds_never_acts_on_the_terminal() {
        let mut reader = Reader::new("db".into(), String::new());
        reader.push(line("red \u{1b}[31m\tbell\u{7}"));
        assert!(drawn(&mut reader)[1].ends_with("red ␛[31m    bell␇"));
    }
}
