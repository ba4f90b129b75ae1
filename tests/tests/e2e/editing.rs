//! Procedures changed where they are written: API, command line and console.

use std::time::Duration;

use serde_json::json;
use thirtyfour::prelude::*;
use yantro_e2e::Server;

use crate::{browser::Browser, quick};

const NIGHT: &str = r#"
# What the desk does at night.
[procedure.night]
title = "The night" # as they call it

# First the front.
[[procedure.night.steps]]
name = "front"
stop = ["front"]

# Then the work.
[[procedure.night.steps]]
title = "Count the boats"
work = ["/bin/true"]
changes_nothing = true

[[procedure.night.steps]]
bring_back = ["front"]
"#;

fn server() -> Server {
    Server::with_estate(&(quick::estate(&[]) + NIGHT))
}

#[test]
fn an_edit_is_tried_and_kept_as_an_edition_with_who_and_why() {
    let server = server();
    let change = json!({ "edits": [{ "edit": "change", "line": 2, "set": { "patience": "7s" } }] });
    let (status, draft) = server.post("/procedures/night/draft", &change);
    assert_eq!((status, draft["good"].as_bool()), (200, Some(true)), "{draft}");
    let text = draft["text"].as_str().unwrap();
    assert!(text.contains("# Then the work.\n[[procedure.night.steps]]\ntitle = \"Count the boats\"\nwork = [\"/bin/true\"]"), "{text}");
    assert_eq!(draft["difference"]["new"], 1);
    assert!(draft["forecast"]["likely_ms"].as_u64().unwrap() > 0, "{}", draft["forecast"]);
    assert_eq!(server.get("/estate")["edition"], 1, "a draft is no edition");

    let (status, refused) = server.post("/procedures/night/editions", &json!({ "text": text, "edition": 1, "why": " " }));
    assert_eq!((status, refused["type"].as_str()), (422, Some("urn:yantro:problem:no-reason")), "{refused}");
    let (status, kept) = server.post("/procedures/night/editions", &json!({ "text": text, "edition": 1, "why": "boats are slow" }));
    assert_eq!((status, kept["edition"].as_u64(), kept["difference"]["new"].as_u64()), (200, Some(2), Some(1)), "{kept}");
    let editions = server.get("/editions");
    assert_eq!(
        (&editions[0]["edited"], &editions[0]["who"], &editions[0]["why"]),
        (&json!("night"), &json!("maren"), &json!("boats are slow"))
    );
    assert_eq!(editions[1]["edited"], json!(null));
    assert!(server.get("/estate?edition=1")["text"].as_str().unwrap().contains("changes_nothing"));

    // Whoever made a change on the edition before is told, and nothing is lost.
    let (status, told) =
        server.post("/procedures/night/editions", &json!({ "text": text.replace("7s", "9s"), "edition": 1, "why": "later" }));
    assert_eq!((status, told["type"].as_str()), (409, Some("urn:yantro:problem:edited-meanwhile")), "{told}");
    assert!(told["detail"].as_str().unwrap().contains("maren"), "{told}");

    // It is what runs carry out from now on.
    let run = server.begin(&["start", "*"]);
    server.run_is(run, &["finished"]);
    let run = server.begin(&["carry-out", "night"]);
    let view = server.run_is(run, &["finished"]);
    assert_eq!(
        view["steps"].as_array().unwrap().iter().find(|s| s["says"] == "Count the boats").unwrap()["planned"]["settings"]["patience"],
        "7s"
    );
}

#[test]
fn the_file_does_not_undo_what_was_edited_unless_told_to() {
    let server = server();
    server.ok(&["amend", "night", "set title = \"The long night\"", "--why", "it is winter", "--yes"]);
    let file = server.path("estate.toml");
    let told = server.exits(1, &["load", &file]);
    assert!(told.contains("what was edited here: night") && told.contains("yantro estate"), "{told}");
    // The edit brought into the file, it loads; and what else the file says is as it was.
    let whole = server.ok(&["estate"]);
    assert_eq!(whole.replace("The long night", "The night"), server.read("estate.toml"));
    server.put("estate.toml", &(whole + "\n# brought in\n"));
    server.ok(&["load", &file]);
    server.ok(&["amend", "night", "set title = \"Short\"", "--why", "it is summer", "--yes"]);
    server.ok(&["load", &file, "--over-edits"]);
    assert!(server.ok(&["procedure", "night"]).contains("The long night"));
}

#[test]
fn changes_are_typed_shown_refused_and_kept() {
    let server = server();
    let told = server.ok(&["amend", "night", "move 2 to 1", "insert 2 pause = \"1s\", title = \"Breathe\"", "--only-show"]);
    assert!(told.contains("+ title = \"Breathe\"") && told.contains("lines gone") && told.contains("Likely"), "{told}");
    assert_eq!(server.get("/estate")["edition"], 1);
    // What needs what it stops, alone: the relation is named, nothing is kept.
    let told = server.exits(3, &["amend", "night", "set 1 stop = [\"db\"], alone = true", "--why", "w", "--yes"]);
    assert!(told.contains("quay/app") && told.contains("step 1") && told.contains("Nothing was kept"), "{told}");
    for (change, wanted) in [
        ("shuffle 1", "there is no change \"shuffle\""),
        ("move 1 3", "move LINE to LINE"),
        ("set 1 patience = ", "cannot be read"),
        ("remove 9", "there is no line 9"),
        ("remove x", "\"x\" is no line"),
    ] {
        let told = server.exits(1, &["amend", "night", change, "--why", "w", "--yes"]);
        assert!(told.contains(wanted), "{change}: {told}");
    }
    server.ok(&["amend", "dusk", "--copy-of", "night", "set title = \"Dusk\"", "remove 2", "--why", "shorter", "--yes"]);
    let told = server.ok(&["difference", "night", "--with", "dusk"]);
    assert!(told.contains("Count the boats") && told.contains("gone"), "{told}");
    assert!(server.ok(&["difference", "dusk"]).contains("nothing, edition 1 beside dusk, edition 2"));
    assert!(server.ok(&["editions"]).contains("procedure dusk"));
    server.ok(&["amend", "dusk", "--take-out", "--why", "no use", "--yes"]);
    assert!(server.exits(1, &["procedure", "dusk"]).contains("no procedure"));
    assert_eq!(server.ok(&["estate"]), server.read("estate.toml"), "taken out again, the text is as it was");
}

#[test]
fn an_editor_opens_the_text_and_bad_input_is_not_lost() {
    let server = server();
    let editor = server.path("editor");
    server.put("editor", "#!/bin/sh\nsed -i \"$EDIT\" \"$1\"\n");
    std::fs::set_permissions(&editor, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let amend = |edit: &str| server.cli_with(&["amend", "night", "--why", "tidied", "--yes"], &[("VISUAL", &editor), ("EDIT", edit)]);
    let told = amend("s/Count the boats/Count them all/");
    assert!(told.status.success(), "{}", yantro_e2e::told(&told));
    assert!(server.ok(&["procedure", "night", "--text"]).contains("Count them all"));
    let told = amend("s/bring_back/bring_black/");
    assert_eq!(told.status.code(), Some(3));
    let told = yantro_e2e::told(&told);
    assert!(told.contains("bring_back") && told.contains("Your text is in "), "{told}");
    let path = told.split("Your text is in ").nth(1).unwrap().lines().next().unwrap();
    assert!(std::fs::read_to_string(path).unwrap().contains("bring_black"));
    std::fs::remove_file(path).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_procedure_is_edited_in_the_console_by_form_keyboard_drag_and_text() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let server = tokio::task::block_in_place(server);
    browser.sign_in(&server).await;
    let base = server.base();
    browser.driver.goto(format!("{base}/procedures/night/edit")).await.unwrap();
    browser.see("Count the boats").await;
    let list = browser.driver.query(By::Css("[role=listbox]")).first().await.unwrap();
    // By keyboard: the second comes first; the text follows.
    browser.driver.query(By::Id("step-2")).first().await.unwrap().click().await.unwrap();
    list.send_keys(Key::Alt + Key::Up).await.unwrap();
    browser.see("Difference +").await;
    says(&browser, "#step-1", "Count the boats").await;
    // What the front relies on cannot be put back before it is taken down: the relation is named, the step stays.
    // By form: it waits longer.
    field(&browser, "Patience").await.send_keys("9s" + Key::Tab).await.unwrap();
    text_has(&browser, "patience = \"9s\"").await;
    // By drag: back to where it was.
    let grip = browser.driver.query(By::Css("[data-grip='1']")).first().await.unwrap();
    let target = browser.driver.query(By::Id("step-2")).first().await.unwrap();
    browser.driver.action_chain().click_and_hold_element(&grip).move_to_element_center(&target).release().perform().await.unwrap();
    says(&browser, "#step-1", "stop front").await;
    // By text: the form follows.
    let text = browser.driver.query(By::Css(".cm-content")).first().await.unwrap();
    text.click().await.unwrap();
    text.send_keys(Key::Control + Key::End).await.unwrap();
    text.send_keys("\n[[procedure.night.steps]]\nannounce = \"Good morning\"\n").await.unwrap();
    says(&browser, "#step-4", "Good morning").await;
    // What is wrong is told where it is, and cannot be kept.
    text.send_keys("patience = \"soon\"").await.unwrap();
    browser.see("1 error").await;
    assert!(!browser.driver.query(By::XPath("//button[.='Keep…']")).first().await.unwrap().is_enabled().await.unwrap());
    // Left like this and come back to, it is all still there.
    browser.driver.goto(format!("{base}/procedures")).await.unwrap();
    browser.press("Edit night").await;
    browser.see("What you left here unkept is back").await;
    browser.driver.query(By::Id("step-4")).first().await.unwrap().click().await.unwrap();
    let patience = field(&browser, "Patience").await;
    patience.clear().await.unwrap();
    patience.send_keys(Key::Tab).await.unwrap();
    browser.press("Keep…").await;
    browser.see("Keep night as a new edition").await;
    browser.driver.query(By::Css("[role=alertdialog] input")).first().await.unwrap().send_keys("mornings").await.unwrap();
    browser.press("Keep it").await;
    browser.see("Carry out…").await;
    let kept = tokio::task::block_in_place(|| server.ok(&["procedure", "night", "--text"]));
    assert!(kept.contains("# First the front.\n[[procedure.night.steps]]\nname = \"front\""), "{kept}");
    assert!(kept.contains("patience = \"9s\"") && kept.ends_with("announce = \"Good morning\"\n"), "{kept}");
    browser.press("What changed").await;
    browser.see("night, edition 1 beside night, edition 2").await;
    browser.see("announce").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_that_breaks_a_relation_is_refused_in_the_console() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let text = quick::estate(&[])
        + "[procedure.swap]\n[[procedure.swap.steps]]\nstop = [\"front\", \"boards\", \"app\"]\n[[procedure.swap.steps]]\nstop = [\"db\"]\nalone = true\n[[procedure.swap.steps]]\nbring_back = [\"all\"]\n";
    let server = tokio::task::block_in_place(|| Server::with_estate(&text));
    browser.sign_in(&server).await;
    browser.driver.goto(format!("{}/procedures/swap/edit", server.base())).await.unwrap();
    says(&browser, "#step-2", "stop db").await;
    browser.driver.query(By::Id("step-2")).first().await.unwrap().click().await.unwrap();
    browser.press("Move up").await;
    browser.see("Not moved. Step 1:").await;
    browser.see("quay/app").await;
    says(&browser, "#step-2", "stop db").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

async fn says(browser: &Browser, place: &str, wanted: &str) {
    for _ in 0..400 {
        if let Ok(found) = browser.driver.find(By::Css(place)).await
            && found.text().await.is_ok_and(|t| t.contains(wanted))
        {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{place} never said \"{wanted}\"");
}

async fn text_has(browser: &Browser, wanted: &str) {
    says(browser, ".cm-content", wanted).await;
}

async fn field(browser: &Browser, label: &str) -> WebElement {
    browser.driver.query(By::XPath(format!("//label[span[.='{label}']][not(ancestor::fieldset)]//input"))).first().await.unwrap()
}
