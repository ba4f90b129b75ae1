//! What could keep acts from being given, asked before the first one is: what an account may do, a unit's own account and
//! program, room for what is written down.

use std::{collections::BTreeMap, path::Path, time::Duration};

use yantro_core::proof::Answer;

use crate::{
    acts::accounts::Account,
    here::{Here, own_account},
    looks::{commands::LookingCommand, hung, procs::in_path, units::UnitFiles},
};

/// How long sudo may take to say what it allows: it may ask a directory.
const ASKED_WITHIN: Duration = Duration::from_secs(10);

/// What sudo says of a command.
#[derive(Debug, PartialEq, Eq)]
enum Allowed {
    Yes,
    /// A rule allows it, and asks for a password that nobody can type.
    WithPassword,
    /// A rule allows it, and not with an environment of its own.
    WithoutEnvironment,
    No,
}

impl Here {
    /// Whether this account may give a command as another one. Nothing is run but `sudo -n -l`, which only lists.
    pub(crate) async fn rights(&self, account: &str, command: &[String], env: &[String]) -> Answer {
        let own = own_account();
        if nix::unistd::geteuid().is_root() {
            return Answer::holds("Yantro acts as root there");
        }
        if account == own {
            return Answer::holds(format!("it is {own} itself"));
        }
        let Some(program) = command.first() else { return Answer::could_not("there is no command") };
        if !self.acts_by_sudo() {
            return self.rights_of_its_own(&own, account, program).await;
        }
        let path = std::env::var("PATH").unwrap_or_else(|_| "/usr/local/bin:/usr/bin:/bin".to_owned());
        let there = |program: &str| in_path(program, &path).ok_or_else(|| Answer::not_yet(format!("there is no program {program}")));
        let (found, sudo) = match (there(program), there("sudo")) {
            (Ok(found), Ok(sudo)) => (found, sudo),
            (Err(missing), _) | (_, Err(missing)) => return missing,
        };
        let words: Vec<String> = std::iter::once(found).chain(command[1..].iter().cloned()).collect();
        let tags = if env.is_empty() { "NOPASSWD" } else { "NOPASSWD: SETENV" };
        let mend = || format!("allow it in /etc/sudoers.d/yantro by {own} ALL=({account}) {tags}: {}", in_sudoers(&words));
        match asked(&sudo, account, &words, !env.is_empty()).await {
            Ok(Allowed::Yes) => Answer::holds(format!("sudo lets {own} do it as {account}")),
            Ok(Allowed::WithPassword) => Answer::not_yet(format!("sudo asks {own} for a password: {}", mend())),
            Ok(Allowed::WithoutEnvironment) => {
                Answer::not_yet(format!("sudo keeps its environment ({}) from it: {}", env.join(", "), mend()))
            }
            Ok(Allowed::No) => Answer::not_yet(format!("sudo does not let {own} do it as {account}: {}", mend())),
            Err(why) => Answer::could_not(why),
        }
    }

    /// The same where nothing goes through sudo: only the manager may let another account than root act on its units.
    async fn rights_of_its_own(&self, own: &str, account: &str, program: &str) -> Answer {
        if program != "systemctl" {
            return Answer::not_yet(format!(
                "{own} cannot act as {account}: let Yantro run as root there, or write `sudo = \"acts\"` for a host over SSH"
            ));
        }
        match self.units.asks_polkit().await {
            Ok(true) => Answer::holds(format!("what polkit lets {own} do with single units cannot be asked beforehand")),
            Ok(false) => Answer::not_yet(format!(
                "only root acts on units there, and Yantro is {own}: write `sudo = \"acts\"` for its host, or let the outpost run as root"
            )),
            Err(why) => Answer::could_not(why),
        }
    }

    /// Whether this account may signal processes of another: what it could start and not stop is not started.
    pub(crate) fn may_signal(&self, account: &str) -> Answer {
        let own = own_account();
        if nix::unistd::geteuid().is_root() || account == own {
            return Answer::holds(format!("{own} may"));
        }
        Answer::not_yet(format!(
            "{own} may neither signal nor look into processes of {account}: let Yantro run as root there (`sudo = \"outpost\"` over SSH), \
             or let the host's manager run it"
        ))
    }

    /// Whether a unit could be started: its definition, its account, its program and its folder are there.
    pub(crate) async fn unit_can_start(&self, unit: &str) -> Answer {
        let seen = match self.units.look(unit).await {
            Ok(seen) => seen.word,
            Err(why) => return Answer::could_not(why),
        };
        if seen.load != "loaded" {
            let (why, mend) = seen.failure();
            return Answer::not_yet(format!("{why}: {mend}"));
        }
        let files = match self.units.files(unit).await {
            Ok(files) => files,
            Err(why) => return Answer::could_not(why),
        };
        let of = unit.to_owned();
        hung::look(format!("the files of {unit}"), move || missing(&of, &files)).await
    }

    /// Whether there is room where acts are written down here.
    pub(crate) async fn room_for_records(&self, bytes: u64) -> Answer {
        let folder = self.acts_folder().to_path_buf();
        hung::look(format!("the room on {}", folder.display()), move || room_for(&folder, bytes)).await
    }
}

fn missing(unit: &str, files: &UnitFiles) -> Answer {
    if let Some(user) = &files.user {
        let by_number = |user: &str| user.parse().map_or(Ok(None), Account::of_uid);
        let found = Account::named(user).and_then(|named| if named.is_some() { Ok(named) } else { by_number(user) });
        match found {
            Ok(Some(_)) => {}
            Ok(None) => return Answer::not_yet(format!("{unit} runs as {user}, and there is no such account")),
            Err(error) => return Answer::could_not(format!("{unit} runs as {user}, and of that account nobody can say: {error}")),
        }
    }
    if let Some(why) = &files.elsewhere {
        return Answer::holds(format!("{unit} is loaded; its programs were not looked for: {why}"));
    }
    if let Some(program) = &files.program {
        use std::os::unix::fs::PermissionsExt;
        match std::fs::metadata(program) {
            Ok(meta) if !meta.is_file() || meta.permissions().mode() & 0o111 == 0 => {
                return Answer::not_yet(format!("{unit} runs {program}, which is no program that may be run"));
            }
            Ok(_) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Answer::not_yet(format!("{unit} runs {program}, and there is no such program"));
            }
            // This account may not see it; the manager's may.
            Err(_) => {}
        }
    }
    if let Some(dir) = &files.dir
        && std::fs::metadata(dir).is_err_and(|e| e.kind() == std::io::ErrorKind::NotFound)
    {
        return Answer::not_yet(format!("{unit} runs in {dir}, and there is no such folder"));
    }
    Answer::holds(format!("{unit}, its account and its program are there"))
}

fn room_for(folder: &Path, bytes: u64) -> Answer {
    let stat = match nix::sys::statvfs::statvfs(folder) {
        Ok(stat) => stat,
        Err(error) => return Answer::could_not(format!("{}: {error}", folder.display())),
    };
    let free = stat.blocks_available() * stat.fragment_size();
    let says = format!("{} MB free on {}", free / 1_000_000, folder.display());
    // Some file systems make room for names as they need it, and say that they have none.
    if stat.files() > 0 && stat.files_available() < 16 {
        return Answer::not_yet(format!("no room for more files on {}: make some", folder.display()));
    }
    match free >= bytes {
        true => Answer::holds(says),
        false => Answer::not_yet(format!("{says}, and {} MB may be written: make room", bytes.div_ceil(1_000_000))),
    }
}

async fn asked(sudo: &str, account: &str, words: &[String], with_env: bool) -> Result<Allowed, String> {
    let list = async |more: &[String]| {
        let words: Vec<String> = [sudo, "-n", "-l"].map(str::to_owned).into_iter().chain(more.iter().cloned()).collect();
        // What it prints is read: in the words of no language.
        let env = BTreeMap::from([("LC_ALL".to_owned(), "C".to_owned())]);
        LookingCommand { words: &words, dir: "/", env, account: None, within: ASKED_WITHIN }.run().await
    };
    let of_it: Vec<String> = ["-u", account, "--"].map(str::to_owned).into_iter().chain(words.iter().cloned()).collect();
    match list(&of_it).await?.code {
        Some(0) => Ok(by_its_rule(&list(&[]).await?.printed, account, &words.join(" "), with_env)),
        Some(_) => Ok(Allowed::No),
        None => Err("sudo was ended by a signal".to_owned()),
    }
}

/// Whether the rule for a command, among all that sudo lists, is enough. The last that fits counts, and a tag holds on to the end
/// of its line: sudoers(5). Where none fits to the letter (a pattern, say), it is taken to be.
fn by_its_rule(listed: &str, account: &str, command: &str, with_env: bool) -> Allowed {
    let mut found = Allowed::Yes;
    for line in listed.lines().filter_map(|l| l.trim_start().strip_prefix('(')) {
        let Some((taken, rules)) = line.split_once(')') else { continue };
        // The accounts, and after a colon the groups that it may take on.
        let accounts = taken.split(':').next().unwrap_or_default();
        if !accounts.split(',').any(|a| [account, "ALL"].contains(&a.trim())) {
            continue;
        }
        let (mut asks, mut keeps) = (true, true);
        for rule in rules.split(", ") {
            let mut rule = rule.trim();
            while let Some((tag, rest)) = rule.split_once(": ").filter(|(t, _)| t.chars().all(|c| c.is_ascii_uppercase() || c == '_')) {
                match tag {
                    "NOPASSWD" => asks = false,
                    "PASSWD" => asks = true,
                    "SETENV" => keeps = false,
                    "NOSETENV" => keeps = true,
                    _ => {}
                }
                rule = rest.trim_start();
            }
            if rule == "ALL" || rule.replace('\\', "") == command {
                found = match (asks, with_env && keeps && rule != "ALL") {
                    (true, _) => Allowed::WithPassword,
                    (false, true) => Allowed::WithoutEnvironment,
                    (false, false) => Allowed::Yes,
                };
            }
        }
    }
    found
}

/// A command as sudoers(5) takes it: what means something there is escaped.
fn in_sudoers(words: &[String]) -> String {
    let escaped = |word: &String| {
        let plain = |c: char| !matches!(c, ',' | ':' | '=' | '\\' | '*' | '?' | '[' | ']' | '#' | '"');
        word.chars().fold(String::new(), |mut out, c| {
            if !plain(c) {
                out.push('\\');
            }
            out.push(c);
            out
        })
    };
    words.iter().map(escaped).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const START: &str = "/usr/bin/systemctl --no-ask-password start -- fares.service";

    #[rstest]
    #[case::without("    (root) NOPASSWD: /usr/bin/systemctl --no-ask-password start -- fares.service\n", Allowed::Yes)]
    #[case::with("    (root) /usr/bin/systemctl --no-ask-password start -- fares.service\n", Allowed::WithPassword)]
    #[case::a_tag_goes_on("    (root) NOPASSWD: /bin/true, /usr/bin/systemctl --no-ask-password start -- fares.service\n", Allowed::Yes)]
    #[case::a_tag_is_taken_back(
        "    (root) NOPASSWD: /bin/true, PASSWD: /usr/bin/systemctl --no-ask-password start -- fares.service\n",
        Allowed::WithPassword
    )]
    #[case::as_another(
        "    (ferry) NOPASSWD: ALL\n    (root) /usr/bin/systemctl --no-ask-password start -- fares.service\n",
        Allowed::WithPassword
    )]
    #[case::everything("    (ALL : ALL) ALL\n", Allowed::WithPassword)]
    #[case::the_last_counts("    (ALL : ALL) ALL\n    (root) NOPASSWD: ALL\n", Allowed::Yes)]
    #[case::another_tag("    (root) NOPASSWD: SETENV: /usr/bin/systemctl --no-ask-password start -- fares.service\n", Allowed::Yes)]
    fn a_rule_that_asks_for_a_password_is_none(#[case] listed: &str, #[case] wanted: Allowed) {
        let before = "Matching Defaults entries for purser on pier:\n    env_reset, mail_badpass\n\nUser purser may run the following:\n";
        assert_eq!(by_its_rule(&format!("{before}{listed}"), "root", START, false), wanted);
    }

    #[rstest]
    #[case::kept("    (root) NOPASSWD: /bin/on\n", Allowed::WithoutEnvironment)]
    #[case::given("    (root) SETENV: NOPASSWD: /bin/on\n", Allowed::Yes)]
    #[case::everything("    (root) NOPASSWD: ALL\n", Allowed::Yes)]
    fn a_rule_that_keeps_the_environment_is_none_for_what_has_one(#[case] listed: &str, #[case] wanted: Allowed) {
        assert_eq!(by_its_rule(listed, "root", "/bin/on", true), wanted);
    }

    #[test]
    fn what_means_something_in_sudoers_is_escaped() {
        let words = ["/usr/bin/systemctl", "kill", "--signal=KILL", "--", "a:b,c.service"].map(str::to_owned);
        assert_eq!(in_sudoers(&words), r"/usr/bin/systemctl kill --signal\=KILL -- a\:b\,c.service");
    }

    #[test]
    fn what_a_unit_misses_is_named() {
        let dir = tempfile::tempdir().unwrap();
        let there = dir.path().join("serve").display().to_string();
        std::fs::write(&there, "").unwrap();
        let files = |program: &str, user: Option<&str>| UnitFiles {
            user: user.map(str::to_owned),
            program: Some(program.to_owned()),
            ..UnitFiles::default()
        };
        let says = |files: &UnitFiles| missing("fares.service", files).says;
        assert!(says(&files("/nowhere/serve", None)).contains("runs /nowhere/serve, and there is no such program"));
        assert!(says(&files(&there, None)).contains("no program that may be run"));
        assert!(says(&files("/bin/sh", Some("no-such-account"))).contains("runs as no-such-account"));
        assert!(says(&UnitFiles { dir: Some("/nowhere".into()), ..files("/bin/sh", Some("0")) }).contains("runs in /nowhere"));
        let away = UnitFiles { elsewhere: Some("it has a root of its own".into()), ..files("/nowhere/serve", None) };
        assert!(says(&away).contains("not looked for"));
        assert!(says(&files("/bin/sh", Some("root"))).contains("are there"));
    }

    #[test]
    fn room_is_held_against_what_may_be_written() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(room_for(dir.path(), 1).verdict, yantro_core::proof::Verdict::Holds);
        let much = room_for(dir.path(), u64::MAX);
        assert_eq!(much.verdict, yantro_core::proof::Verdict::NotYet);
        assert!(much.says.ends_with("make room"), "{}", much.says);
    }
}
