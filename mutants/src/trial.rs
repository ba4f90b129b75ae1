//! The tests, with one mutant awake at a time.

use std::{
    collections::{BTreeSet, HashMap},
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    thread,
    time::{Duration, Instant},
};

use crate::came::Came;

/// What is written into the crate beside its mutants. Whoever wakes one ends with the first panic: some test noticed.
pub const WAKING: &str = r#"
/// Which mutant is awake.
#[doc(hidden)]
#[allow(missing_docs)]
pub mod mutant {
    use std::{io::Write as _, sync::{LazyLock, Mutex, atomic::{AtomicBool, Ordering}}};
    static AWAKE: LazyLock<usize> = LazyLock::new(|| {
        let Some(number) = std::env::var("MUTANT").ok().and_then(|n| n.parse().ok()) else { return usize::MAX };
        std::panic::set_hook(Box::new(|panic| {
            // What a runtime that ends says to a task that goes on: a test that passed has no part in it.
            if panic.to_string().contains("but it is being shutdown") {
                return;
            }
            let by = std::thread::current().name().unwrap_or_default().to_owned();
            // Past the harness, which keeps what a test prints.
            let says = format!("\nnoticed by {by}: {}\n", panic.to_string().replace('\n', " "));
            let _ = std::io::stdout().write_all(says.as_bytes());
            std::process::exit(101);
        }));
        number
    });
    static COME_BY: LazyLock<Option<Mutex<std::fs::File>>> =
        LazyLock::new(|| Some(Mutex::new(std::fs::File::create(std::env::var_os("COME_BY")?).unwrap())));
    static SEEN: [AtomicBool; 20_000] = [const { AtomicBool::new(false) }; 20_000];
    pub fn is(number: usize) -> bool {
        if let Some(file) = &*COME_BY && !SEEN[number].swap(true, Ordering::Relaxed) {
            writeln!(file.lock().unwrap(), "{number}").unwrap();
        }
        *AWAKE == number
    }
}
"#;

/// Tests that take longer are run only where no shorter one notices.
const SHORT: Duration = Duration::from_millis(400);
/// Those that take longer are left out but for one, where only a first answer is wanted.
const LONG: Duration = Duration::from_millis(1500);

/// Tests of one program that are run in one go.
struct Lot {
    program: PathBuf,
    /// Its arguments: which tests.
    which: Vec<String>,
    takes: Duration,
    /// The mutants that it comes by.
    comes_by: BTreeSet<usize>,
}

/// Every test of the crate, in the order in which they are tried.
pub struct Tests(Vec<Lot>);

fn run(folder: &Path, program: &Path, which: &[String], env: &[(&str, &str)], at_most: Duration) -> Result<(bool, String), String> {
    let mut tests = Command::new(program);
    tests.current_dir(folder).args(which).args(["--test-threads", "1"]).envs(env.iter().copied()).env("RUST_BACKTRACE", "0");
    let out = tempfile(program)?;
    let file = fs::File::create(&out).map_err(|e| e.to_string())?;
    let mut child = tests.stdin(Stdio::null()).stdout(file).stderr(Stdio::null()).spawn().map_err(|e| e.to_string())?;
    let begun = Instant::now();
    let good = loop {
        match child.try_wait().map_err(|e| e.to_string())? {
            Some(status) => break Some(status.success()),
            None if begun.elapsed() > at_most => {
                child.kill().and_then(|()| child.wait()).map_err(|e| e.to_string())?;
                break None;
            }
            None => thread::sleep(Duration::from_millis(5)),
        }
    };
    let text = fs::read(&out).map(|b| String::from_utf8_lossy(&b).into_owned()).map_err(|e| e.to_string())?;
    let _ = fs::remove_file(&out);
    good.map(|good| (good, text)).ok_or_else(|| "hung".to_owned())
}

fn tempfile(program: &Path) -> Result<PathBuf, String> {
    let thread = format!("{:?}", thread::current().id()).replace(|c: char| !c.is_ascii_digit(), "");
    let name = program.file_name().ok_or("a program without a name")?.to_string_lossy().into_owned();
    Ok(std::env::temp_dir().join(format!("{name}-{}-{thread}", std::process::id())))
}

impl Tests {
    /// Runs every test with no mutant awake, to learn how long each takes and which mutants it comes by.
    ///
    /// # Errors
    /// Where one fails by itself.
    pub fn measure(programs: &[(PathBuf, PathBuf)]) -> Result<Self, String> {
        let mut lots = Vec::new();
        for (program, folder) in programs {
            let by = std::env::temp_dir().join(format!("come-by-{}", std::process::id()));
            let measured = |which: Vec<String>| -> Result<Lot, String> {
                let begun = Instant::now();
                let env = [("COME_BY", by.to_str().unwrap_or_default())];
                let (good, text) = run(folder, program, &which, &env, Duration::from_secs(900))?;
                if !good {
                    return Err(format!("the tests fail without any mutant:\n{text}"));
                }
                let comes_by = fs::read_to_string(&by).unwrap_or_default().lines().filter_map(|n| n.parse().ok()).collect();
                let _ = fs::remove_file(&by);
                Ok(Lot { program: program.clone(), which, takes: begun.elapsed(), comes_by })
            };
            // The harness tells the time of each only to those who say that they know that this may change.
            let timed = ["-Z", "unstable-options", "--report-time"].map(str::to_owned);
            let (good, text) = run(folder, program, &timed, &[("RUSTC_BOOTSTRAP", "1")], Duration::from_secs(900))?;
            if !good {
                return Err(format!("the tests fail without any mutant:\n{text}"));
            }
            let tests: Vec<(String, Duration)> = text.lines().filter_map(taken).collect();
            let long: Vec<&String> = tests.iter().filter(|(_, took)| *took > SHORT).map(|(name, _)| name).collect();
            let skipped: Vec<String> = long.iter().flat_map(|name| ["--skip".to_owned(), (*name).clone()]).collect();
            // What is of one module is about one thing, and comes by the same places.
            let modules: BTreeSet<&str> = tests.iter().filter_map(|(name, _)| Some(name.split_once("::")?.0)).collect();
            for module in modules {
                let short = tests.iter().any(|(name, took)| *took <= SHORT && name.starts_with(&format!("{module}::")));
                if short {
                    lots.push(measured([vec![format!("{module}::")], skipped.clone()].concat())?);
                }
            }
            for name in long {
                lots.push(measured(vec!["--exact".to_owned(), name.clone()])?);
            }
        }
        lots.sort_by_key(|lot| lot.takes);
        Ok(Tests(lots))
    }

    /// With only one of the long tests: the one that comes by most.
    pub fn quick(mut self) -> Self {
        let is_long = |lot: &Lot| lot.takes > LONG;
        let most = self.0.iter().filter(|lot| is_long(lot)).map(|lot| lot.comes_by.len()).max();
        let kept = self.0.iter().position(|lot| is_long(lot) && Some(lot.comes_by.len()) == most);
        let mut nth = 0..;
        self.0.retain(|lot| nth.next() == kept || !is_long(lot));
        self
    }

    /// What they make of a mutant.
    ///
    /// # Errors
    /// Where they cannot be run.
    pub fn of(&self, number: usize, folders: &HashMap<PathBuf, PathBuf>) -> Result<Came, String> {
        let awake = number.to_string();
        let mut came = Came::Untouched;
        for lot in self.0.iter().filter(|lot| lot.comes_by.contains(&number)) {
            let at_most = lot.takes * 5 + Duration::from_secs(20);
            match run(&folders[&lot.program], &lot.program, &lot.which, &[("MUTANT", &awake)], at_most) {
                Ok((true, _)) => came = Came::Survived,
                Ok((false, text)) => {
                    let by = text.lines().find_map(|l| l.strip_prefix("noticed by ")).unwrap_or("a test that ended by itself");
                    return Ok(Came::Noticed { by: by.chars().take(200).collect() });
                }
                Err(why) if why == "hung" => return Ok(Came::Hung),
                Err(why) => return Err(why),
            }
        }
        Ok(came)
    }

    /// How the tests were divided, in a line each.
    pub fn told(&self) -> Vec<String> {
        let what = |lot: &Lot| lot.which.iter().find(|w| *w != "--exact").cloned().unwrap_or_default();
        let lots = self.0.iter().filter(|lot| !lot.comes_by.is_empty());
        lots.map(|lot| format!("{:6.1} s, comes by {:4}: {}", lot.takes.as_secs_f32(), lot.comes_by.len(), what(lot))).collect()
    }
}

/// A test's name and time, of a line `test NAME ... ok <0.123s>`.
fn taken(line: &str) -> Option<(String, Duration)> {
    let (name, rest) = line.strip_prefix("test ")?.split_once(" ... ok <")?;
    let seconds: f64 = rest.strip_suffix("s>")?.parse().ok()?;
    Some((name.to_owned(), Duration::from_secs_f64(seconds)))
}
