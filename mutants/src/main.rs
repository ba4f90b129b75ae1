//! Shows whether a broken promise would be noticed: what decides is changed in one place at a time, and some test has to fail.
//!
//! cargo-mutants says what may be changed. All of it is written into one copy of the project, each change asleep, so that it is built
//! once and not once for each; then the tests are run with one awake after the other, the short ones first, and only those that come
//! by its place. `scripts/mutants` runs it.

mod came;
mod named;
mod sites;
mod trial;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    fs,
    io::{BufRead, BufReader, Write},
    path::{Path, PathBuf},
    process::{Command, ExitCode, Stdio},
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
    thread,
};

use came::Came;
use serde_json::Value;
use sha2::{Digest, Sha256};
use sites::{Mutant, Written};
use trial::Tests;

/// A crate whose mutants are tried: its files, and the tests that show them.
struct Subject {
    package: &'static str,
    folder: &'static str,
    rooms: &'static [&'static str],
    /// The package of those tests, where it is run, and which they are.
    tested_by: &'static str,
    tested_in: &'static str,
    tests: &'static [&'static str],
    /// Packages whose programs these want beside them.
    beside: &'static [&'static str],
}

/// What the core decides is shown by the core's own tests, the turn of the loop by the engine's.
const SUBJECTS: [Subject; 2] = [
    Subject {
        package: "yantro-core",
        folder: "crates/yantro-core",
        rooms: &["run", "guards", "holders", "proof"],
        tested_by: "yantro-core-tests",
        tested_in: "crates/yantro-core/tests",
        tests: &["--test", "core"],
        beside: &[],
    },
    Subject {
        package: "yantro-engine",
        folder: "crates/yantro-engine",
        rooms: &["turn"],
        tested_by: "yantro-engine",
        tested_in: "crates/yantro-engine",
        tests: &["--lib", "--test", "engine"],
        beside: &["yantro-outpost"],
    },
];

type Failure = Box<dyn std::error::Error>;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match all(&arguments) {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(e) => {
            eprintln!("mutants: {e}");
            ExitCode::from(2)
        }
    }
}

/// Whether every mutant of the share is noticed. Arguments: the share, as `3/60`; `core` or `turn` for only one of
/// both; `again` for those once more that survived; `quick` leaves out what takes long, and so names more than a whole try would.
fn all(arguments: &[String]) -> Result<bool, Failure> {
    let share = arguments.iter().find_map(|a| a.split_once('/')).map(|(k, n)| Ok::<_, Failure>((k.parse()?, n.parse()?)));
    let (number, of): (usize, usize) = share.transpose()?.unwrap_or((0, 1));
    let only = |name: &str| arguments.iter().any(|a| a == name);
    let mut good = true;
    for (subject, name) in SUBJECTS.iter().zip(["core", "turn"]) {
        if only(name) || !(only("core") || only("turn")) {
            good &= try_all(subject, (number, of.max(1)), only("again"), only("quick"))?;
        }
    }
    Ok(good)
}

fn try_all(subject: &Subject, (share, of): (usize, usize), again: bool, quick: bool) -> Result<bool, Failure> {
    let mut list = Command::new("cargo");
    list.args(["mutants", "--list", "--json", "--package", subject.package]);
    for room in subject.rooms {
        list.args(["--file".to_owned(), format!("{}/src/{room}/**/*.rs", subject.folder)]);
        list.args(["--file".to_owned(), format!("{}/src/{room}.rs", subject.folder)]);
    }
    let listed = list.stderr(Stdio::inherit()).output()?;
    let mutants: Vec<Mutant> = serde_json::from_slice(&listed.stdout)?;
    let kept = format!("target/mutants/{}.json", subject.package);
    let digests = digests(&mutants)?;
    let before: Kept = fs::read(&kept).ok().map(|text| serde_json::from_slice(&text)).transpose()?.unwrap_or_default();
    let same = before.into_iter().filter(|(file, (digest, _))| digests.get(file) == Some(digest));
    let mut came: BTreeMap<String, Came> = same.flat_map(|(_, (_, came))| came).collect();
    if again {
        came.retain(|_, c| !matches!(c, Came::Survived | Came::Untouched));
    }
    let (programs, left) = built(subject, &mutants)?;
    for number in &left {
        came.insert(mutants[*number].name.clone(), Came::NotBuilt);
    }
    let tests = Tests::measure(&programs)?;
    let tests = if quick { tests.quick() } else { tests };
    tests.told().iter().for_each(|line| println!("{line}"));
    let shared = (0..mutants.len()).filter(|n| n % of == share);
    let todo: Vec<usize> = shared.clone().filter(|n| !came.contains_key(&mutants[*n].name)).collect();
    println!("{} of {} mutants of {} are tried", todo.len(), mutants.len(), subject.package);
    let folders: HashMap<PathBuf, PathBuf> = programs.into_iter().collect();
    let (next, came) = (AtomicUsize::new(0), Mutex::new(came));
    let worker = || -> Result<(), String> {
        while let Some(number) = todo.get(next.fetch_add(1, Ordering::Relaxed)) {
            let (name, this) = (mutants[*number].name.clone(), tests.of(*number, &folders)?);
            println!("{:?} {name}", this);
            let mut came = came.lock().map_err(|e| e.to_string())?;
            came.insert(name, this);
            let text = serde_json::to_string_pretty(&by_file(&came, &digests)).map_err(|e| e.to_string())?;
            fs::write(&kept, text).map_err(|e| e.to_string())?;
        }
        Ok(())
    };
    let workers = thread::available_parallelism()?.get();
    thread::scope(|scope| {
        let all: Vec<_> = (0..workers).map(|_| scope.spawn(worker)).collect();
        all.into_iter().try_for_each(|w| w.join().map_err(|_| "a worker ended".to_owned())?)
    })?;
    let mut came = came.into_inner()?;
    let names: BTreeSet<&String> = shared.map(|n| &mutants[n].name).collect();
    came.retain(|name, _| names.contains(name));
    let named = named::Named::read(Path::new("mutants/named.toml"))?.of(subject.folder, mutants.iter().map(|m| m.name.as_str()), &came);
    print!("{}", named::summed(&came, &named));
    Ok(named.holds() && came.iter().all(|(name, c)| !matches!(c, Came::Survived | Came::Untouched) || named.has(name)))
}

/// What came of the mutants of each file, by its name: with what the file was, since that says nothing of another.
type Kept = BTreeMap<String, (String, BTreeMap<String, Came>)>;

fn by_file(came: &BTreeMap<String, Came>, digests: &BTreeMap<String, String>) -> Kept {
    let mut kept = Kept::new();
    for (name, one) in came {
        // A mutant's name begins with that of its file.
        let Some((file, digest)) = name.split_once(':').and_then(|(file, _)| digests.get_key_value(file)) else { continue };
        kept.entry(file.clone()).or_insert_with(|| (digest.clone(), BTreeMap::new())).1.insert(name.clone(), one.clone());
    }
    kept
}

/// What each file with mutants is.
fn digests(mutants: &[Mutant]) -> Result<BTreeMap<String, String>, Failure> {
    let mut all = BTreeMap::new();
    for file in mutants.iter().map(|m| &m.file).collect::<BTreeSet<_>>() {
        let digest = Sha256::digest(fs::read(file)?).iter().take(6).map(|b| format!("{b:02x}")).collect();
        all.insert(file.clone(), digest);
    }
    Ok(all)
}

/// Copies what is under version control, where it differs from what was copied before.
fn copied(to: &Path) -> Result<(), Failure> {
    let listed = Command::new("git").args(["ls-files", "--cached", "--others", "--exclude-standard", "-z"]).output()?;
    let mut names: Vec<String> = String::from_utf8(listed.stdout)?.split('\0').filter(|n| !n.is_empty()).map(str::to_owned).collect();
    // The console as it was built is put into the server; it is none of the files kept.
    names.retain(|n| Path::new(n).is_file());
    for name in names {
        put(&to.join(&name), &fs::read(&name)?)?;
    }
    Ok(())
}

fn put(at: &Path, bytes: &[u8]) -> Result<(), Failure> {
    if fs::read(at).is_ok_and(|was| was == bytes) {
        return Ok(());
    }
    fs::create_dir_all(at.parent().ok_or("no folder")?)?;
    Ok(fs::write(at, bytes)?)
}

/// Test programs, each with the folder that it is run in.
type Programs = Vec<(PathBuf, PathBuf)>;

/// The test programs with all mutants in them, each with the folder that it is run in; and those that cannot be built.
fn built(subject: &Subject, mutants: &[Mutant]) -> Result<(Programs, BTreeSet<usize>), Failure> {
    let tree = PathBuf::from("target/mutants/tree");
    let mut left: BTreeSet<usize> = BTreeSet::new();
    copied(&tree)?;
    let root = format!("{}/src/lib.rs", subject.folder);
    put(&tree.join(&root), (fs::read_to_string(&root)? + trial::WAKING).as_bytes())?;
    let mut by_file: BTreeMap<&str, Vec<(usize, &Mutant)>> = BTreeMap::new();
    for (number, mutant) in mutants.iter().enumerate() {
        by_file.entry(&mutant.file).or_default().push((number, mutant));
    }
    loop {
        let mut written: BTreeMap<&str, Written> = BTreeMap::new();
        for (file, all) in &by_file {
            let these: Vec<_> = all.iter().copied().filter(|(n, _)| !left.contains(n)).collect();
            let made = sites::write(&fs::read_to_string(file)?, &these).map_err(|e| format!("{file}: {e}"))?;
            left.extend(made.left.iter().map(|(n, _)| *n));
            put(&tree.join(file), made.text.as_bytes())?;
            written.insert(file, made);
        }
        let (programs, errors) = build(subject, &tree)?;
        if errors.is_empty() {
            let folder = fs::canonicalize(tree.join(subject.tested_in))?;
            return Ok((programs.into_iter().map(|p| (p, folder.clone())).collect(), left));
        }
        let before = left.len();
        for error in &errors {
            let spans = error["spans"].as_array().into_iter().flatten();
            for span in spans.filter(|s| s["is_primary"] == true) {
                let place = |key: &str| span[key].as_u64().unwrap_or_default() as usize;
                let (from, to) = (place("byte_start"), place("byte_end"));
                let Some(file) = span["file_name"].as_str().and_then(|f| written.get(f)) else { continue };
                // The narrowest around it is to blame.
                let around = file.stands.iter().filter(|(at, _)| at.start < to.max(from + 1) && from < at.end);
                left.extend(around.min_by_key(|(at, _)| at.len()).map(|(_, n)| *n));
            }
        }
        if left.len() == before {
            let said: Vec<&str> = errors.iter().filter_map(|e| e["rendered"].as_str()).collect();
            return Err(format!("it cannot be built, and no mutant is to blame:\n{}", said.join("\n")).into());
        }
        println!("{} mutants cannot be built so far", left.len());
    }
}

/// Builds the tests, and gives back their programs, or what the compiler has against them.
fn build(subject: &Subject, tree: &Path) -> Result<(Vec<PathBuf>, Vec<Value>), Failure> {
    for package in subject.beside {
        let mut cargo = Command::new("cargo");
        cargo.current_dir(tree).args(["build", "--quiet", "--package", package]).env("CARGO_TARGET_DIR", "../build");
        if !cargo.status()?.success() {
            return Err(format!("{package} cannot be built").into());
        }
    }
    let mut cargo = Command::new("cargo");
    cargo.current_dir(tree).args(["test", "--no-run", "--message-format", "json", "--package", subject.tested_by]);
    cargo.args(subject.tests).env("CARGO_TARGET_DIR", "../build").stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = cargo.spawn()?;
    let (mut programs, mut errors) = (Vec::new(), Vec::new());
    for line in BufReader::new(child.stdout.take().ok_or("no output")?).lines() {
        let Ok(message) = serde_json::from_str::<Value>(&line?) else { continue };
        match message["reason"].as_str() {
            Some("compiler-message") if message["message"]["level"] == "error" && message["message"]["spans"][0].is_object() => {
                errors.push(message["message"].clone());
            }
            Some("compiler-artifact") if message["profile"]["test"] == true => {
                programs.extend(message["executable"].as_str().map(PathBuf::from));
            }
            _ => {}
        }
    }
    let good = child.wait()?.success();
    std::io::stdout().flush()?;
    match (good, errors.is_empty()) {
        (true, _) => Ok((programs, Vec::new())),
        (false, false) => Ok((programs, errors)),
        (false, true) => Err("cargo test --no-run failed, and said nothing of the code: run it in target/mutants/tree".into()),
    }
}
