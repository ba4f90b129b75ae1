//! `yantro vet`, `load` and `schema`.

use std::{
    fmt,
    path::{Path, PathBuf},
    sync::Arc,
};

use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use yantro_core::text::{Fault, Severity, Vetted, json_schema, not_text, vet};
use yantro_engine::{EditionRow, LoadOutcome};
use yantro_server::wire::{EstateText, EstateView};

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

/// Find all faults of an estate file; needs no server.
#[derive(clap::Args)]
pub struct Vet {
    /// The file.
    file: PathBuf,
}

/// Load an estate file as a new edition.
#[derive(clap::Args)]
pub struct Load {
    /// The file.
    file: PathBuf,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// Load it even where it lacks what was edited on the server since the last load.
    #[arg(long)]
    over_edits: bool,
}

/// Print the text of the estate, with all that was edited.
#[derive(clap::Args)]
pub struct Estate {
    /// An earlier edition.
    #[arg(long)]
    edition: Option<u64>,
}

/// List the editions of the estate, the newest first.
#[derive(clap::Args)]
pub struct Editions {
    /// How many.
    #[arg(long, default_value_t = 20)]
    limit: u32,
}

/// Print the JSON Schema of the estate file.
#[derive(clap::Args)]
pub struct Schema {
    /// The OpenAPI description of the server's API instead.
    #[arg(long)]
    api: bool,
}

impl Schema {
    pub fn run(self) -> Outcome {
        let mut document = if self.api { yantro_server::openapi::document() } else { json_schema() };
        // The same whatever it was built with, so that what is committed differs only where it says something else.
        document.sort_all_objects();
        println!("{}", serde_json::to_string_pretty(&document).unwrap_or_default());
        Ok(Exit::Good)
    }
}

/// The text of an estate file, and the folder that it lies in.
pub(crate) fn read(file: &Path) -> Result<(String, String), Failure> {
    let bytes = bytes_of(file)?;
    if let Some(fault) = not_text(&bytes) {
        let what = format!("{}:{}:{}: {}", file.display(), fault.line, fault.column, fault.message);
        return Err(Failure::Own { what, hint: fault.mend, exit: Exit::Faults });
    }
    Ok((String::from_utf8_lossy(&bytes).into_owned(), folder_of(file)?))
}

fn unread(file: &Path, e: &std::io::Error) -> Failure {
    Failure::own(format!("{} cannot be read: {e}", file.display()), "check the path")
}

fn bytes_of(file: &Path) -> Result<Vec<u8>, Failure> {
    let length = std::fs::metadata(file).map_err(|e| unread(file, &e))?.len();
    if length > yantro_core::text::MAX_BYTES as u64 {
        return Err(Failure::own(
            format!("{} has {length} bytes, and an estate may have {}", file.display(), yantro_core::text::MAX_BYTES),
            "is this the right file? write common settings once, with `like`",
        ));
    }
    std::fs::read(file).map_err(|e| unread(file, &e))
}

fn folder_of(file: &Path) -> Result<String, Failure> {
    let whole = std::fs::canonicalize(file).map_err(|e| unread(file, &e))?;
    Ok(whole.parent().map_or_else(|| "/".to_owned(), |p| p.display().to_string()))
}

impl Vet {
    pub fn run(self, say: &Say) -> Outcome {
        let bytes = bytes_of(&self.file)?;
        let text = String::from_utf8_lossy(&bytes);
        let vetted = match not_text(&bytes) {
            // One fault like any other, for whoever reads them as JSON, too.
            Some(fault) => Vetted { estate: None, faults: vec![fault] },
            None => vet(&text, &folder_of(&self.file)?).by(&text, super::now()),
        };
        if say.is_json() {
            say.json(&vetted.faults);
        } else {
            show(&vetted.faults, &text, &self.file.display().to_string(), say);
        }
        match vetted.estate {
            Some(estate) => {
                if !say.is_json() {
                    say.line(format!(
                        "{} {}: {} services on {} hosts, no errors{}",
                        tinted(Tint::Good, "◉"),
                        estate.name,
                        estate.services.keys().filter(|a| !a.is_power()).count(),
                        estate.hosts.len(),
                        counted(&vetted.faults)
                    ));
                }
                Ok(Exit::Good)
            }
            None => Ok(Exit::Faults),
        }
    }
}

fn counted(warnings: &[Fault]) -> String {
    match warnings.len() {
        0 => String::new(),
        1 => ", 1 warning".to_owned(),
        n => format!(", {n} warnings"),
    }
}

impl Load {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let (text, folder) = read(&self.file)?;
        let client = Client::find(global)?;
        let body = EstateText { text: text.clone(), folder, why: self.why, over_edits: self.over_edits };
        let outcome: LoadOutcome = match wait_for(client.post("/estate", &body)) {
            Ok(outcome) => outcome,
            Err(Failure::Problem(problem)) if !problem.faults.is_empty() && !say.is_json() => {
                show(&problem.faults, &text, &self.file.display().to_string(), say);
                say.talk("Nothing was loaded; the edition before stays.");
                return Ok(Exit::Faults);
            }
            Err(other) => return Err(other),
        };
        if say.is_json() {
            say.json(&outcome);
            return Ok(Exit::Good);
        }
        show(&outcome.warnings, &text, &self.file.display().to_string(), say);
        if !outcome.changed {
            say.line(format!("Nothing changed: edition {} stays.", outcome.edition));
            return Ok(Exit::Good);
        }
        say.line(format!("{} edition {} is loaded", tinted(Tint::Good, "◉"), outcome.edition));
        for (word, list) in [("new", &outcome.added), ("gone", &outcome.removed), ("changed", &outcome.altered)] {
            for address in list {
                say.line(format!("  {word:<8}{address}"));
            }
        }
        for name in &outcome.procedures {
            say.line(format!("  {:<8}procedure {name}", "written"));
        }
        Ok(Exit::Good)
    }
}

impl Estate {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let query = self.edition.map_or_else(String::new, |e| format!("?edition={e}"));
        let view: EstateView = wait_for(client.get(&format!("/estate{query}")))?;
        if say.is_json() {
            say.json(&view);
        } else {
            say.text(&view.text);
        }
        Ok(Exit::Good)
    }
}

impl Editions {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let all: Vec<EditionRow> = wait_for(client.get(&format!("/editions?limit={}", self.limit)))?;
        if say.is_json() {
            say.json(&all);
            return Ok(Exit::Good);
        }
        let mut table = marks::table(&["EDITION", "MADE", "BY", "WHAT", "WHY"]);
        for e in &all {
            let what = match e.edited.as_deref() {
                None => "loaded".to_owned(),
                // Addresses have a stroke in them, which no procedure's name has.
                Some(taken) if taken.contains('/') => format!("taken in: {}", taken.replace(' ', ", ")),
                Some(procedure) => format!("procedure {procedure}"),
            };
            table.add_row([e.edition.to_string(), marks::day_and_clock(e.at), e.who.clone(), what, e.why.clone().unwrap_or_default()]);
        }
        say.line(marks::lines(&table));
        Ok(Exit::Good)
    }
}

/// A fault as miette draws it.
struct Drawn<'f> {
    fault: &'f Fault,
    source: NamedSource<Arc<str>>,
}

impl fmt::Debug for Drawn<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.fault.message)
    }
}
impl fmt::Display for Drawn<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.fault.message)
    }
}
impl std::error::Error for Drawn<'_> {}

impl Diagnostic for Drawn<'_> {
    fn severity(&self) -> Option<miette::Severity> {
        Some(match self.fault.severity {
            Severity::Error => miette::Severity::Error,
            Severity::Warning => miette::Severity::Warning,
        })
    }
    fn help<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        Some(Box::new(&self.fault.mend))
    }
    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(&self.source)
    }
    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let first = LabeledSpan::new_with_span(None, self.fault.span.clone());
        let also = self.fault.also.iter().map(|(span, says)| LabeledSpan::new_with_span(Some(says.clone()), span.clone()));
        Some(Box::new(std::iter::once(first).chain(also)))
    }
}

/// Of many faults the first are shown: nobody reads a thousand, and many are gone once the first are mended.
const FAULTS_SHOWN: usize = 50;

pub(crate) fn show(faults: &[Fault], text: &str, name: &str, say: &Say) {
    let handler = GraphicalReportHandler::new_themed(GraphicalTheme::unicode()).with_width(100).with_context_lines(1);
    let source = NamedSource::new(name, Arc::<str>::from(text));
    // Where not all are shown, no warning takes the place of an error.
    let (errors, warnings): (Vec<&Fault>, Vec<&Fault>) = faults.iter().partition(|f| f.severity == Severity::Error);
    let all: Vec<&Fault> = if faults.len() > FAULTS_SHOWN { errors.into_iter().chain(warnings).collect() } else { faults.iter().collect() };
    for fault in all.into_iter().take(FAULTS_SHOWN) {
        let drawn = Drawn { fault, source: source.clone() };
        let mut out = String::new();
        if handler.render_report(&mut out, &drawn).is_ok() {
            say.line(format!("{}\n", out.trim_end()));
        }
    }
    if let Some(more) = faults.len().checked_sub(FAULTS_SHOWN).filter(|more| *more > 0) {
        say.line(format!("… and {more} more: mend these first; with --json all are told\n"));
    }
    let errors = faults.iter().filter(|f| f.severity == Severity::Error).count();
    if errors > 0 {
        say.line(tinted(Tint::Alarm, format!("{errors} error{} in {name}", if errors == 1 { "" } else { "s" })));
    }
}
