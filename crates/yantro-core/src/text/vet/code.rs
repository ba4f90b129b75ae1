//! Arguments that are code: what an interpreter is handed to read may have no value from outside in it.

use crate::model::fill;

/// Who reads an argument as code, and the first value that stands in it; nothing where values are only ever arguments.
pub(super) fn with_value(words: &[String]) -> Option<(String, String)> {
    let (program, args) = unwrapped(words)?;
    let outside = |text: &String| fill::names(text).into_iter().find(|n| n != "dir");
    code_of(program, args).iter().find_map(|text| Some((program.rsplit('/').next().unwrap_or(program).to_owned(), outside(text)?)))
}

/// Programs that only run another: what they take before it, as options with a value of their own.
const WRAPPERS: &[(&str, &[&str], usize)] = &[
    ("env", &["-u", "-C", "-S", "--unset", "--chdir"], 0),
    ("nice", &["-n"], 0),
    ("ionice", &["-c", "-n"], 0),
    ("nohup", &[], 0),
    ("setsid", &[], 0),
    ("stdbuf", &["-i", "-o", "-e"], 0),
    ("timeout", &["-s", "-k", "--signal", "--kill-after"], 1),
    ("time", &["-f", "-o"], 0),
    ("sudo", &["-u", "-g", "-h", "-p", "-C", "-r", "-t", "-T", "-D", "--user", "--group"], 0),
    ("doas", &["-u", "-C"], 0),
    ("runuser", &["-u", "-g", "-G"], 0),
    ("setpriv", &["--reuid", "--regid"], 0),
    ("systemd-run", &["-p", "-u", "--unit", "--property"], 0),
    ("chroot", &[], 1),
    ("flock", &["-w", "-E"], 1),
    ("busybox", &[], 0),
    ("xargs", &["-n", "-I", "-P", "-L", "-d"], 0),
];

/// The program that is run in the end, and its arguments.
fn unwrapped(words: &[String]) -> Option<(&str, &[String])> {
    let (program, mut rest) = words.split_first()?;
    let name = program.rsplit('/').next().unwrap_or(program);
    let Some((_, valued, operands)) = WRAPPERS.iter().find(|(n, ..)| *n == name) else { return Some((program, rest)) };
    let mut operands = *operands;
    while let Some((word, after)) = rest.split_first() {
        if word == "--" {
            rest = after;
            break;
        } else if word.starts_with('-') && word.len() > 1 {
            rest = if valued.contains(&word.as_str()) { after.get(1..).unwrap_or_default() } else { after };
        } else if name == "env" && word.contains('=') {
            rest = after;
        } else if operands > 0 {
            operands -= 1;
            rest = after;
        } else {
            break;
        }
    }
    // What comes after a -- may have operands still.
    unwrapped(rest.get(operands.min(rest.len())..).unwrap_or_default()).or(Some((program, &words[1..])))
}

/// The arguments that a program reads as code.
fn code_of<'w>(program: &str, args: &'w [String]) -> Vec<&'w String> {
    let name = program.rsplit('/').next().unwrap_or(program);
    let is = |names: &[&str]| {
        names.iter().any(|n| {
            name == *n || name.strip_prefix(n).is_some_and(|v| v.starts_with(|c: char| c.is_ascii_digit() || c == '.' || c == '-'))
        })
    };
    // An option given by itself, at the end of others in one word, or with the code behind it in the same word.
    let after = |letters: &str, longs: &[&str]| {
        let mut code = Vec::new();
        for (i, arg) in args.iter().enumerate() {
            let short = arg.starts_with('-') && !arg.starts_with("--") && arg.chars().skip(1).any(|c| letters.contains(c));
            let long = longs.iter().any(|l| arg == l || arg.starts_with(&format!("{l}=")));
            if short || long {
                code.push(arg);
                code.extend(args.get(i + 1));
            }
        }
        code
    };
    if is(&["sh", "bash", "dash", "zsh", "ksh", "mksh", "ash", "fish", "csh", "tcsh"]) {
        after("c", &["--command"])
    } else if is(&["python", "pypy"]) {
        after("c", &[])
    } else if is(&["perl", "ruby", "lua", "luajit", "node", "nodejs", "deno", "bun", "Rscript", "php", "raku", "guile", "tclsh"]) {
        after("eErpBRn", &["--eval", "--print", "--run", "--execute"])
    } else if is(&["awk", "gawk", "mawk", "nawk", "original-awk"]) {
        awk_code(args)
    } else if is(&["sed", "gsed"]) {
        // Its scripts can run commands.
        let given = after("e", &["--expression"]);
        if given.is_empty() { args.iter().find(|a| !a.starts_with('-')).into_iter().collect() } else { given }
    } else if is(&["su", "script"]) {
        after("c", &["--command", "--session-command"])
    } else if is(&["ssh", "rsh"]) {
        ssh_code(args)
    } else if is(&["eval", "watch", "parallel", "tmux", "screen", "expect"]) {
        args.iter().collect()
    } else if is(&["find", "fd"]) {
        let from = args.iter().position(|a| ["-exec", "-execdir", "-ok", "-okdir", "-x", "-X"].contains(&a.as_str()));
        from.and_then(|at| unwrapped(&args[at + 1..])).map_or_else(Vec::new, |(program, rest)| code_of(program, rest))
    } else {
        Vec::new()
    }
}

/// The program text of awk: its first operand, unless that is in a file.
fn awk_code(args: &[String]) -> Vec<&String> {
    let mut i = 0;
    while let Some(arg) = args.get(i) {
        match arg.as_str() {
            "-f" | "--file" => return Vec::new(),
            "-v" | "-F" | "--assign" | "--field-separator" => i += 2,
            "--" => return args.get(i + 1).into_iter().collect(),
            "-e" | "--source" => return args.get(i + 1).into_iter().collect(),
            a if a.starts_with('-') && a.len() > 1 => i += 1,
            _ => return vec![arg],
        }
    }
    Vec::new()
}

/// Whatever follows the host is read by a shell there; the host itself could be an option.
fn ssh_code(args: &[String]) -> Vec<&String> {
    const VALUED: &str = "BbcDEeFIiJLlmOopQRSWw";
    let mut code = Vec::new();
    let mut i = 0;
    while let Some(arg) = args.get(i) {
        match arg.strip_prefix('-') {
            Some("-") => return args[i + 1..].iter().collect(),
            Some(option) if !option.is_empty() => {
                if option.starts_with('o') {
                    // ProxyCommand and the like are commands.
                    code.push(arg);
                    code.extend(args.get(i + 1));
                }
                i += if option.len() == 1 && VALUED.contains(option) { 2 } else { 1 };
            }
            _ => {
                code.extend(args[i..].iter());
                return code;
            }
        }
    }
    code
}
