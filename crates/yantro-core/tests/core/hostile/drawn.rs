//! An estate and what is asked of it, drawn by lot.

use std::fmt::Write as _;

use rand::{RngExt, seq::IndexedRandom};
use yantro_core::{graph::EstateGraph, model::Estate, plan::Request, selection::resolve, text::vet, words::kinds::Wish};

/// One of several.
pub fn one_of<T: Copy>(lot: &mut impl RngExt, all: &[T]) -> T {
    *all.choose(lot).expect("there is one")
}

/// An estate of a few services on two hosts, with whatever may be said of them.
pub fn estate(lot: &mut impl RngExt) -> Estate {
    loop {
        let text = text(lot);
        // What is drawn may contradict itself: then it is drawn again.
        if let Some(estate) = vet(&text, "/e").estate {
            return estate;
        }
    }
}

fn text(lot: &mut impl RngExt) -> String {
    let services = lot.random_range(2..8usize);
    let mut text = String::from("[estate]\nname = \"Drawn\"\nstands_for = \"test\"\n");
    let limits = one_of(lot, &["", "[limits]\nat_once = 2\n", "[limits]\nper_host = 1\n"]);
    text += limits;
    text += "[host.h1]\nreach = \"ssh\"\naddress = \"10.0.0.1\"\n[host.h2]\nreach = \"ssh\"\naddress = \"10.0.0.2\"\n";
    let copies = lot.random_bool(0.4);
    if copies {
        text += "[service.gate]\nrun_by = \"systemd\"\nladder = [{ rung = \"port\", port = 3999 }]\nstart = { patience = \"12s\" }\n\
                 stop = { patience = \"6s\" }\ncopies = { left = { host = \"h1\" }, right = { host = \"h2\" } }\n";
    }
    for i in 0..services {
        let host = one_of(lot, &["h1", "h2"]);
        let relies: Vec<usize> = (0..i).filter(|_| lot.random_bool(0.35)).collect();
        let mut named: Vec<String> = relies.iter().map(|j| format!("\"s{j}\"")).collect();
        if copies && lot.random_bool(0.4) {
            named.push(one_of(lot, &["{ service = \"gate\", copies = 1 }", "{ service = \"gate\", copies = \"all\" }"]).to_owned());
        }
        let _ = writeln!(text, "[service.s{i}]\nhost = \"{host}\"\nrelies_on = [{}]", named.join(", "));
        let process = lot.random_bool(0.7);
        if process {
            let _ = writeln!(text, "run_by = \"process\"\nprocess = {{ program = \"/bin/x\", args = [\"s{i}\"] }}");
        } else {
            let _ = writeln!(text, "run_by = \"systemd\"");
        }
        let second = if lot.random_bool(0.4) { format!(", {{ rung = \"connect\", port = {} }}", 4000 + i) } else { String::new() };
        let _ = writeln!(text, "ladder = [{{ rung = \"port\", port = {} }}{second}]", 4000 + i);
        let attempts = one_of(lot, &[1, 1, 2]);
        let pause = one_of(lot, &["0s", "0s", "2s"]);
        let _ = writeln!(text, "start = {{ patience = \"12s\", attempts = {attempts}, gap = \"1s\", pause_before = \"{pause}\" }}");
        let force = one_of(lot, &["allow", "ask", "never"]);
        let evidence = if force != "never" && lot.random_bool(0.3) { ", evidence = [[\"/bin/dump\"]]" } else { "" };
        let _ = writeln!(text, "stop = {{ patience = \"6s\", force = \"{force}\"{evidence} }}");
        let _ = writeln!(text, "steady = \"{}\"", one_of(lot, &["0s", "0s", "1s"]));
        let rule = one_of(lot, &["", "", "", "if_it_fails = \"carry-on\"\n", "if_it_fails = \"put-back\"\n"]);
        text += rule;
        if i > 0 && lot.random_bool(0.15) {
            let other = lot.random_range(0..i);
            if !relies.contains(&other) {
                let _ = writeln!(text, "yields_to = [\"s{other}\"]");
            }
        }
        match lot.random_range(0..14) {
            0 if i > 0 => _ = writeln!(text, "never_with = [\"s{}\"]\nexpected = \"down\"", lot.random_range(0..i)),
            1 => text += "hands_off = \"others see to it\"\n",
            2 if process => text += "brought_back_by = \"its keeper\"\n",
            _ => {}
        }
    }
    if services > 2 && lot.random_bool(0.5) {
        let members: Vec<String> = (0..services).filter(|_| lot.random_bool(0.5)).map(|i| format!("\"s{i}\"")).collect();
        let limit = one_of(lot, &["", "at_once = 1\n"]);
        if members.len() > 1 {
            let _ = writeln!(text, "[group.gates]\nmembers = [{}]\nkeep_up = 1\n{limit}", members.join(", "));
        }
    }
    let (a, b) = (lot.random_range(0..services), lot.random_range(0..services));
    let rule = one_of(lot, &["hold", "put-back", "carry-on"]);
    let _ = writeln!(
        text,
        "[procedure.night]\ntitle = \"A night\"\nif_it_fails = \"{rule}\"\n\
         [[procedure.night.steps]]\nname = \"down\"\nstop = [\"s{a}\"]\n\
         [[procedure.night.steps]]\ntitle = \"Patch\"\nwork = [\"/bin/patch\"]\non = \"h1\"\npatience = \"20s\"\nchanges_nothing = {}\n{}\
         [[procedure.night.steps]]\nquestion = {{ asks = \"Good?\" }}\n\
         [[procedure.night.steps]]\nbring_back = [\"down\"]\n\
         [[procedure.night.steps]]\nrestart = [\"s{b}\"]\n\
         [procedure.dusk]\ntitle = \"Dusk\"\n[[procedure.dusk.steps]]\nstop = [\"s{b}\"]\n",
        lot.random_bool(0.5),
        if lot.random_bool(0.5) { format!("while_down = [\"s{a}\"]\n") } else { String::new() },
    );
    text
}

/// A wish for some of the services.
pub fn request(lot: &mut impl RngExt, estate: &Estate) -> Request {
    let graph = EstateGraph::new(estate);
    let all: Vec<String> = estate.services.keys().map(ToString::to_string).collect();
    let some: Vec<String> = all.iter().filter(|_| lot.random_bool(0.4)).cloned().collect();
    let words = if some.is_empty() { vec![all[0].clone()] } else { some };
    let wish = one_of(lot, &[Wish::Start, Wish::Stop, Wish::Restart, Wish::Restart, Wish::BringToExpected]);
    Request::new(wish, resolve(estate, &graph, &words, &[]).expect("they are there"))
}
