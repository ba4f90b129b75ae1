//! Editions of the estate: loaded from a file, or made by editing a procedure where it is written.

pub(crate) mod adoption;

use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use yantro_core::{
    graph::EstateGraph,
    model::Estate,
    plan::{
        forecast::{Usual, plays::play_all},
        procedure::{self, Asked},
    },
    proof::Facts,
    text::{
        Fault, Severity,
        file::ProcedureFile,
        vet,
        written::{self, Difference, Edit, EditFault, StepDifference},
    },
    words::{
        name::{Address, ProcedureName, did_you_mean},
        time::Timestamp,
    },
};
use yantro_store::Edition;

use crate::{engine::Engine, error::EngineError, loaded::Loaded, messages::Msg};

/// What loading came to.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct LoadOutcome {
    /// The edition's number.
    pub edition: u64,
    /// Whether anything changed; else the newest edition stays.
    pub changed: bool,
    /// Services that are new.
    pub added: Vec<Address>,
    /// Services that are gone.
    pub removed: Vec<Address>,
    /// Services that are described differently.
    pub altered: Vec<Address>,
    /// Procedures that are new, gone, or written differently.
    pub procedures: Vec<ProcedureName>,
    /// Warnings.
    pub warnings: Vec<Fault>,
    /// What is worth knowing of what was taken in, in sentences.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remarks: Vec<String>,
}

/// How many lines are shown around a place that differs.
const AROUND: usize = 3;

/// An estate to load as a new edition.
#[derive(Debug, Clone, Default)]
pub struct LoadRequest {
    /// The file's text.
    pub text: String,
    /// The folder that relative paths start from.
    pub folder: String,
    /// Why.
    pub why: Option<String>,
    /// Loaded even where it lacks what was edited here since the last load.
    pub over_edits: bool,
}

/// A change of a procedure, to be tried.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftRequest {
    /// The procedure's text so far; without it, as the newest edition has it.
    #[serde(default)]
    pub text: Option<String>,
    /// For a new one: the procedure it begins as a copy of.
    #[serde(default)]
    pub copy_of: Option<ProcedureName>,
    /// The changes, made one after another.
    #[serde(default)]
    pub edits: Vec<Edit>,
}

/// A procedure as it would be after a change.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Draft {
    /// Its name.
    pub name: ProcedureName,
    /// The edition it was made on.
    pub edition: u64,
    /// Its text.
    pub text: String,
    /// What the text says, as far as it is sound: only what is written.
    #[schemars(with = "ProcedureFile")]
    pub written: Map<String, Value>,
    /// Its lines in words; none while there are errors.
    pub says: Vec<String>,
    /// What is wrong with it. Lines are those of this text; line 0 is elsewhere in the estate.
    pub faults: Vec<Fault>,
    /// Whether it could be kept.
    pub good: bool,
    /// What it differs in from the newest edition.
    pub difference: Difference,
    /// How long it would take as things stand; nothing while it cannot be played.
    pub forecast: Option<DraftForecast>,
}

/// How long a draft would take.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct DraftForecast {
    /// The likely length, in milliseconds.
    pub likely_ms: u64,
    /// The length that nine in ten plays keep.
    pub late_ms: u64,
    /// How many steps it comes to.
    pub steps: u32,
    /// When each line has likely ended, in milliseconds from the begin; 0 for one that has nothing to do.
    pub lines_ms: Vec<u64>,
    /// What would refuse it as things stand.
    pub refused: Vec<String>,
}

/// A change of a procedure, to be kept as a new edition.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EditRequest {
    /// Its text; without it, the procedure is taken out.
    #[serde(default)]
    pub text: Option<String>,
    /// The edition that the change was made on: refused where another changed the procedure since.
    #[serde(default)]
    pub edition: Option<u64>,
    /// Why.
    pub why: String,
}

/// What keeping a change came to.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct EditOutcome {
    /// The edition that has it.
    pub edition: u64,
    /// Whether anything changed; else the newest edition stays.
    pub changed: bool,
    /// What it differs in from the edition before.
    pub difference: Difference,
    /// Warnings.
    pub warnings: Vec<Fault>,
}

/// An edition in a list.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct EditionRow {
    /// Its number.
    pub edition: u64,
    /// When it was made.
    pub at: Timestamp,
    /// By whom.
    pub who: String,
    /// Why.
    pub why: Option<String>,
    /// The procedure that was edited here, or the addresses of the services that were taken in; nothing where the whole was
    /// loaded from a file.
    pub edited: Option<String>,
}

/// A procedure beside another, or beside itself in another edition.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct ProcedureDifference {
    /// What the first is.
    pub old: String,
    /// What the second is.
    pub new: String,
    /// Line by line of their texts.
    pub difference: Difference,
    /// Step by step.
    pub steps: Vec<StepDifference>,
}

impl Engine {
    /// Loads an estate as a new edition.
    pub async fn load(&self, request: LoadRequest, who: &str) -> Result<LoadOutcome, EngineError> {
        // One at a time: numbers follow each other.
        let _turn = self.shared.loading.lock().await;
        let LoadRequest { text, folder, why, over_edits } = request;
        let (engine, of, at) = (self.clone(), text.clone(), folder.clone());
        // Vetting a large estate takes a while, and the store is read: away from the threads that serve.
        let vetted = tokio::task::spawn_blocking(move || {
            let vetted = vet(&of, &at).by(&of, engine.clock().now());
            let Some(estate) = &vetted.estate else { return Err(EngineError::Faults(vetted.faults)) };
            let lost = if over_edits { Vec::new() } else { engine.edits_missing_in(&of, estate)? };
            if lost.is_empty() { Ok(vetted) } else { Err(EngineError::WouldUndo(lost)) }
        });
        let vetted = vetted.await.unwrap_or(Err(EngineError::Busy))?;
        let Some(estate) = vetted.estate else { return Err(EngineError::Faults(vetted.faults)) };
        self.new_edition(text, folder, estate, vetted.faults, who, why, None).await
    }

    /// Loads a text that was made here by taking services in.
    pub(crate) async fn load_adopted(&self, request: LoadRequest, who: &str) -> Result<LoadOutcome, EngineError> {
        let _turn = self.shared.loading.lock().await;
        let LoadRequest { text, folder, why, .. } = request;
        let vetted = vet(&text, &folder).by(&text, self.clock().now());
        let Some(estate) = vetted.estate else { return Err(EngineError::Faults(vetted.faults)) };
        let known = self.loaded();
        let is_new = |a: &&Address| known.as_ref().is_none_or(|l| !l.estate.services.contains_key(*a));
        // An address has a stroke in it, which no procedure's name has.
        let adopted: Vec<String> = estate.services.keys().filter(is_new).map(ToString::to_string).collect();
        self.new_edition(text, folder, estate, vetted.faults, who, why, Some(adopted.join(" "))).await
    }

    /// What was edited here since the last load that a text has otherwise: procedures, and services taken in.
    fn edits_missing_in(&self, text: &str, estate: &Estate) -> Result<Vec<String>, EngineError> {
        let Some(loaded) = self.loaded().filter(|l| l.text != text) else { return Ok(Vec::new()) };
        let edited = self.reader()?.edited_since_load()?;
        let mut lost = Vec::new();
        for address in edited.iter().flat_map(|e| e.split(' ')).filter_map(|a| a.parse::<Address>().ok()) {
            if loaded.estate.services.contains_key(&address) && !estate.services.contains_key(&address) {
                lost.push(address.to_string());
            }
        }
        for name in edited.iter().filter_map(|n| n.parse::<ProcedureName>().ok()) {
            if written::piece(&loaded.text, &name)? != written::piece(text, &name)? {
                lost.push(name.to_string());
            }
        }
        Ok(lost)
    }

    #[allow(clippy::too_many_arguments, reason = "what makes an edition, gathered by its two callers")]
    async fn new_edition(
        &self,
        text: String,
        folder: String,
        estate: Estate,
        warnings: Vec<Fault>,
        who: &str,
        why: Option<String>,
        edited: Option<String>,
    ) -> Result<LoadOutcome, EngineError> {
        let before = self.loaded();
        let old = before.as_ref().map(|l| l.estate.services.clone()).unwrap_or_default();
        let added = estate.services.keys().filter(|a| !old.contains_key(*a)).cloned().collect();
        let removed: Vec<Address> = old.keys().filter(|a| !estate.services.contains_key(*a)).cloned().collect();
        let altered = estate.services.iter().filter(|(a, s)| old.get(*a).is_some_and(|o| o != *s)).map(|(a, _)| a.clone()).collect();
        let had = before.as_ref().map(|l| l.estate.procedures.clone()).unwrap_or_default();
        let mut procedures: Vec<ProcedureName> = had.keys().filter(|n| !estate.procedures.contains_key(*n)).cloned().collect();
        procedures.extend(estate.procedures.iter().filter(|(n, p)| had.get(*n) != Some(*p)).map(|(n, _)| n.clone()));
        let changed = before.as_ref().is_none_or(|b| b.text != text || b.estate != estate);
        let engine = self.clone();
        let newest = tokio::task::spawn_blocking(move || Ok::<_, EngineError>(engine.reader()?.last_edition()?)).await;
        // Counted in the store: an edition that does not vet any more is one all the same.
        let newest = newest.unwrap_or(Err(EngineError::Busy))?;
        let edition = if changed { newest + 1 } else { newest };
        if changed {
            let row = Edition {
                no: edition,
                at: self.clock().now(),
                who: who.to_owned(),
                why,
                text: text.clone(),
                folder: folder.clone(),
                edited,
            };
            let loaded = Arc::new(Loaded::new(edition, text, folder, estate));
            self.ask(|reply| Msg::Load { edition: Box::new(row), loaded, reply }).await?;
            self.look_again().await;
        }
        Ok(LoadOutcome { edition, changed, added, removed, altered, procedures, warnings, remarks: Vec::new() })
    }

    /// The newest editions, the newest first. For threads that may block.
    pub fn editions(&self, limit: u32) -> Result<Vec<EditionRow>, EngineError> {
        let rows = self.reader()?.newest_editions(limit)?;
        let row = |e: Edition| EditionRow { edition: e.no, at: e.at, who: e.who, why: e.why, edited: e.edited };
        Ok(rows.into_iter().map(row).collect())
    }

    /// The text of an edition. For threads that may block.
    pub fn text_of(&self, edition: u64) -> Result<String, EngineError> {
        Ok(self.reader()?.edition(edition)?.ok_or(EngineError::NoEdition(edition))?.text)
    }

    /// A procedure as it would be after a change; nothing is kept. For threads that may block.
    pub fn draft(&self, name: &ProcedureName, request: &DraftRequest) -> Result<Draft, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let kept = written::piece(&loaded.text, name)?;
        let begun = match (&request.text, &request.copy_of, &kept) {
            (Some(text), ..) => text.clone(),
            (None, Some(original), None) => {
                let piece = written::piece(&loaded.text, original)?.ok_or_else(|| no_procedure(&loaded, original))?;
                written::renamed(&piece, original, name)?
            }
            (None, Some(_), Some(_)) => {
                let what = format!("there is a procedure {name} already");
                return Err(EditFault { what, mend: "give the copy another name".to_owned() }.into());
            }
            (None, None, Some(kept)) => kept.clone(),
            (None, None, None) => written::blank(name, name.as_str()),
        };
        let text = written::edited(&begun, name, &request.edits)?;
        let (estate, faults) = vetted(&loaded, name, Some(&text));
        let forecast = estate.as_ref().and_then(|estate| self.draft_forecast(estate, name));
        let says = estate.as_ref().and_then(|e| e.procedures.get(name)).map(|p| p.lines.iter().map(|l| l.says()).collect());
        Ok(Draft {
            name: name.clone(),
            edition: loaded.edition,
            written: written::procedure_of(&text, name),
            says: says.unwrap_or_default(),
            good: estate.is_some(),
            difference: written::difference(kept.as_deref().unwrap_or_default(), &text, AROUND),
            forecast,
            faults,
            text,
        })
    }

    /// How long a procedure would take by what was last seen. It waits for no look: it is asked at each key pressed.
    fn draft_forecast(&self, estate: &Estate, name: &ProcedureName) -> Option<DraftForecast> {
        let procedure = estate.procedures.get(name)?;
        let graph = EstateGraph::new(estate);
        let values = procedure::settle(estate, &graph, procedure, &Default::default()).ok()?;
        let facts: Facts = estate.services.keys().filter_map(|a| Some((a.clone(), self.hands.watched(a)?.seen.state))).collect();
        let asked = Asked { values, ..Asked::default() };
        let plan = procedure::plan(estate, &graph, &facts, &Usual::new(self.times(), estate), procedure, &asked);
        let forecast = play_all(&plan.sequence.steps, estate, None);
        let mut lines_ms = vec![0; procedure.lines.len()];
        for (step, times) in plan.sequence.steps.iter().zip(&forecast.steps) {
            if let Some(line) = step.line.and_then(|l| lines_ms.get_mut(l as usize - 1)) {
                *line = times.ends_ms.max(*line);
            }
        }
        Some(DraftForecast {
            likely_ms: forecast.likely_ms,
            late_ms: forecast.late_ms,
            steps: plan.sequence.steps.len() as u32,
            lines_ms,
            refused: plan.obstacles.into_iter().map(|o| o.why).collect(),
        })
    }

    /// Keeps a change of a procedure as a new edition.
    pub async fn edit(&self, name: &ProcedureName, request: EditRequest, who: &str) -> Result<EditOutcome, EngineError> {
        if request.why.trim().is_empty() {
            return Err(EngineError::NoReason("a new edition"));
        }
        let _turn = self.shared.loading.lock().await;
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let kept = written::piece(&loaded.text, name)?;
        if request.text.is_none() && kept.is_none() {
            return Err(no_procedure(&loaded, name));
        }
        if let Some(made_on) = request.edition.filter(|e| *e != loaded.edition) {
            let then = written::piece(&self.text_of(made_on)?, name)?;
            if then != kept {
                let newest = self.reader()?.edition(loaded.edition)?;
                let who = newest.map_or_else(String::new, |e| e.who);
                return Err(EngineError::EditedMeanwhile { procedure: name.clone(), who, edition: loaded.edition });
            }
        }
        let whole = written::with_piece(&loaded.text, name, request.text.as_deref())?;
        let (estate, faults) = vetted(&loaded, name, request.text.as_deref());
        let Some(estate) = estate else { return Err(EngineError::Faults(faults)) };
        let difference = written::difference(kept.as_deref().unwrap_or_default(), request.text.as_deref().unwrap_or_default(), AROUND);
        let why = Some(request.why.trim().to_owned());
        let outcome = self.new_edition(whole, loaded.folder.clone(), estate, faults, who, why, Some(name.to_string())).await?;
        Ok(EditOutcome { edition: outcome.edition, changed: outcome.changed, difference, warnings: outcome.warnings })
    }

    /// A procedure beside itself in another edition, or beside another procedure. Without editions: what the
    /// last change of it was. For threads that may block.
    pub fn difference(
        &self,
        name: &ProcedureName,
        from: Option<u64>,
        to: Option<u64>,
        with: Option<&ProcedureName>,
    ) -> Result<ProcedureDifference, EngineError> {
        let loaded = self.loaded().ok_or(EngineError::NoEstate)?;
        let text_at = |edition: Option<u64>| edition.map_or_else(|| Ok(loaded.text.clone()), |e| self.text_of(e));
        let new_no = to.unwrap_or(loaded.edition);
        let second = with.unwrap_or(name);
        let new = written::piece(&text_at(to)?, second)?;
        let (old, old_no) = match (from, with) {
            (Some(from), _) => (written::piece(&self.text_of(from)?, name)?, from),
            (None, Some(_)) => (written::piece(&text_at(to)?, name)?, new_no),
            (None, None) => self.before_last_change(name, new.as_deref(), new_no)?,
        };
        if old.is_none() && new.is_none() {
            return Err(no_procedure(&loaded, name));
        }
        let called = |text: &Option<String>, name: &ProcedureName, no| match text {
            Some(_) => format!("{name}, edition {no}"),
            None => format!("nothing, edition {no}"),
        };
        let (was, is) = (called(&old, name, old_no), called(&new, second, new_no));
        let (old, new) = (old.unwrap_or_default(), new.unwrap_or_default());
        // Told apart by what they say, not by their names.
        let alike = if with.is_some() && !new.is_empty() { written::renamed(&new, second, name)? } else { new };
        Ok(ProcedureDifference {
            old: was,
            new: is,
            steps: written::steps_difference(&written::procedure_of(&old, name), &written::procedure_of(&alike, name)),
            difference: written::difference(&old, &alike, AROUND),
        })
    }

    /// What a procedure was before it became what it is in an edition, and until which edition.
    fn before_last_change(&self, name: &ProcedureName, is: Option<&str>, edition: u64) -> Result<(Option<String>, u64), EngineError> {
        let reader = self.reader()?;
        for no in (1..edition).rev() {
            let Some(earlier) = reader.edition(no)? else { continue };
            let was = written::piece(&earlier.text, name)?;
            if was.as_deref() != is {
                return Ok((was, no));
            }
        }
        Ok((None, 0))
    }
}

fn no_procedure(loaded: &Loaded, name: &ProcedureName) -> EngineError {
    let near = did_you_mean(name.as_str(), loaded.estate.procedures.keys().map(ProcedureName::as_str));
    EngineError::NoProcedure { name: name.to_string(), near }
}

/// The estate with a procedure's text put in, and what is wrong with it: with lines of that text, and 0 for
/// errors elsewhere that come of it.
fn vetted(loaded: &Loaded, name: &ProcedureName, text: Option<&str>) -> (Option<Estate>, Vec<Fault>) {
    let own = text.unwrap_or_default();
    let whole = match written::with_piece(&loaded.text, name, text) {
        Ok(whole) => whole,
        Err(fault) => {
            // Vetted by itself, what is no TOML has its place.
            let alone = vet(own, &loaded.folder).faults.into_iter().filter(|f| f.kind == "not-toml").collect::<Vec<_>>();
            let told = Fault {
                severity: Severity::Error,
                kind: "bad-edit".to_owned(),
                message: fault.what,
                mend: fault.mend,
                line: 1,
                column: 1,
                span: 0..0,
                also: Vec::new(),
            };
            return (None, if alone.is_empty() { vec![told] } else { alone });
        }
    };
    let vetted = vet(&whole, &loaded.folder);
    let core = own.trim();
    let (begins, lead) = (whole.find(core).filter(|_| !core.is_empty()), own.len() - own.trim_start().len());
    let lines_in = |text: &str| text.matches('\n').count();
    let faults = vetted.faults.into_iter().filter_map(|mut fault| {
        let inside = begins.filter(|b| (*b..=b + core.len()).contains(&fault.span.start));
        match inside {
            Some(b) => {
                fault.line = fault.line + lines_in(&own[..lead]) - lines_in(&whole[..b]);
                let here = |at: usize| at.saturating_sub(b) + lead;
                fault.span = here(fault.span.start)..here(fault.span.end);
                fault.also = fault.also.into_iter().map(|(s, says)| (here(s.start)..here(s.end), says)).collect();
            }
            // What is warned of elsewhere was so before.
            None if fault.severity == Severity::Warning => return None,
            None => (fault.line, fault.column, fault.span, fault.also) = (0, 0, 0..0, Vec::new()),
        }
        Some(fault)
    });
    (vetted.estate, faults.collect())
}
