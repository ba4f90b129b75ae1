//! Makes the pictures of docs/screenshots anew from the demo: `scripts/screenshots`.

use std::path::PathBuf;

use thirtyfour::prelude::*;
use yantro_e2e::Server;
use yantro_lab::{Lab, ferry::Ferry};

use crate::browser::Browser;

fn folder() -> PathBuf {
    let default = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../docs/screenshots");
    std::env::var_os("YANTRO_PICTURES").map_or(default, PathBuf::from)
}

async fn picture(browser: &Browser, name: &str) {
    // What the page fetches after a move has come when two looks agree.
    let mut before = Vec::new();
    for _ in 0..40 {
        tokio::time::sleep(std::time::Duration::from_millis(250)).await;
        let now = browser.driver.find(By::Tag("main")).await.unwrap().text().await.unwrap_or_default().len();
        if before == [now] {
            break;
        }
        before = vec![now];
    }
    browser.driver.screenshot(&folder().join(format!("{name}.png"))).await.unwrap();
}

/// A command in a terminal window.
fn terminal(server: &Server, name: &str, command: &str) {
    let bin = yantro_e2e::program("yantro").parent().expect("it is in a folder").display().to_string();
    let path = format!("{bin}:{}", std::env::var("PATH").unwrap_or_default());
    let script = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../scripts/terminal-picture");
    let status = std::process::Command::new(script)
        .arg(folder().join(format!("{name}.png")))
        .arg(command)
        .env("PATH", path)
        .env("YANTRO_DATA", server.data())
        .status();
    assert!(status.is_ok_and(|s| s.success()), "no picture of {command}");
}

async fn theme(browser: &Browser, choice: &str) {
    browser.driver.execute(format!("localStorage.setItem('yantro-theme', '{choice}')"), vec![]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "makes pictures: scripts/screenshots"]
async fn pictures_of_the_demo() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    browser.driver.set_window_rect(0, 0, 1280, 800 + 139).await.unwrap();
    let server = tokio::task::block_in_place(Server::demo);
    browser.sign_in(&server).await;
    theme(&browser, "light").await;
    let base = server.base();
    let go = async |path: &str| browser.driver.goto(format!("{base}{path}")).await.unwrap();
    go("/map?of=quay-2%2Fbooking").await;
    browser.see("Takes with it").await;
    picture(&browser, "map").await;
    go("/plan?wish=restart&of=quay-1%2Ffares-db&below=gates").await;
    browser.see("Stops 13").await;
    picture(&browser, "plan").await;
    go("/procedures/patch-fares-db").await;
    browser.see("9 in 10 within").await;
    picture(&browser, "procedure").await;
    tokio::task::block_in_place(|| terminal(&server, "terminal-procedure", "yantro procedure patch-fares-db"));
    // Changed: the editor, and what it came to.
    go("/procedures/patch-fares-db/edit").await;
    browser.see("12").await;
    browser.driver.query(By::Id("step-8")).first().await.unwrap().click().await.unwrap();
    browser.see("Patience").await;
    picture(&browser, "editor").await;
    tokio::task::block_in_place(|| {
        let changes = ["set 8 patience = \"10m\"", "insert 9 pause = \"5s\", title = \"Let the disks rest\""];
        server.ok(&["amend", "patch-fares-db", changes[0], changes[1], "--why", "the new disks are slow", "--yes"])
    });
    go("/procedures/patch-fares-db/difference").await;
    browser.see("edition 2").await;
    picture(&browser, "difference").await;
    // A night that goes wrong: one gate refuses to come back, one board crashes.
    server.trouble("gate-pier-north-right", Some("forbidden-line"));
    let run =
        tokio::task::block_in_place(|| server.begin(&["restart", "fares-db", "--below-keep-up", "gates", "--why", "nightly fares patch"]));
    tokio::task::block_in_place(|| {
        yantro_e2e::wait_until("booking is being proven", || {
            let view = server.get(&format!("/runs/{run}"));
            let at_it = view["steps"]
                .as_array()?
                .iter()
                .any(|s| s["planned"]["address"] == "quay-2/booking" && s["planned"]["kind"] == "start" && s["now"]["state"] == "proving");
            at_it.then_some(())
        });
    });
    go("/").await;
    browser.see("in run").await;
    browser.driver.screenshot(&folder().join("board.png")).await.unwrap();
    go(&format!("/runs/{run}")).await;
    browser.see("proving").await;
    browser.see("9 in 10 by").await;
    browser.driver.screenshot(&folder().join("run-live.png")).await.unwrap();
    tokio::task::block_in_place(|| server.run_is(run, &["held"]));
    theme(&browser, "dark").await;
    go(&format!("/runs/{run}")).await;
    browser.see("forbidden line").await;
    picture(&browser, "run-held-dark").await;
    go("/").await;
    browser.see("gate-check").await;
    picture(&browser, "board-dark").await;
    theme(&browser, "light").await;
    tokio::task::block_in_place(|| {
        terminal(&server, "terminal-board", "yantro board");
        let view = server.get(&format!("/runs/{run}"));
        let failed = view["steps"].as_array().unwrap().iter().find(|s| s["now"]["state"] == "failed").unwrap();
        terminal(&server, "terminal", &format!("yantro show {run} --step {}", failed["planned"]["id"]));
    });
    server.trouble("gate-pier-north-right", None);
    tokio::task::block_in_place(|| drop(server.cli(&["again", "--yes", &run.to_string(), "--watch"])));
    // And one whose patch fails: put back, with its report.
    server.trouble("patch", Some("fail"));
    let patched = tokio::task::block_in_place(|| server.begin(&["carry-out", "patch-fares-db"]));
    tokio::task::block_in_place(|| server.run_is(patched, &["put-back"]));
    server.trouble("patch", None);
    go(&format!("/runs/{patched}")).await;
    browser.see("put back").await;
    picture(&browser, "run-put-back").await;
    go(&format!("/runs/{patched}/report")).await;
    browser.see("beside run").await;
    picture(&browser, "report").await;
    go(&format!("/logs?of=quay-1%2Ffares-db,quay-1%2Fpost-queue,pier-north%2Fgate-check.right&run={patched}")).await;
    browser.see("by maren").await;
    picture(&browser, "logs").await;
    go("/runs").await;
    browser.see("finished").await;
    picture(&browser, "runs").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

/// The pictures of the lab of real hosts; it takes root.
#[tokio::test(flavor = "multi_thread")]
#[ignore = "makes pictures: scripts/screenshots"]
async fn pictures_of_the_lab() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    browser.driver.set_window_rect(0, 0, 1280, 800 + 139).await.unwrap();
    let Some(lab) = tokio::task::block_in_place(Lab::raise) else { return };
    let ferry = tokio::task::block_in_place(|| Ferry::raise(&lab, &yantro_e2e::program("yantro-stand-in")));
    let tides = "printf '[Unit]\\nDescription=Tide tables\\nRequires=redis-server.service\\n[Service]\\nExecStart=/opt/ferry/stand-in --name tides \
                 --listen 0.0.0.0:7100\\n' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl start tides";
    ferry.desk.ok(&["sh", "-c", tides]);
    let server = tokio::task::block_in_place(|| {
        let server = Server::with_estate(&ferry.estate(&lab));
        crate::units::proven(&server, &crate::units::ALL);
        crate::units::proven(&server, &["harbour/host", "desk/host", "gate/host"]);
        server
    });
    browser.sign_in(&server).await;
    theme(&browser, "light").await;
    let base = server.base();
    let go = async |path: &str| browser.driver.goto(format!("{base}{path}")).await.unwrap();
    go("/hosts").await;
    browser.see("Power-cycle").await;
    picture(&browser, "hosts").await;
    go("/hosts/desk").await;
    browser.press("Take tides.service in").await;
    browser.see("port = 7100").await;
    picture(&browser, "look-through").await;
    ferry.desk.ok(&["sh", "-c", "systemctl stop tides; rm /etc/systemd/system/tides.service; systemctl daemon-reload"]);
    // The evening, looked at once the first host is off.
    let run = tokio::task::block_in_place(|| {
        let run = server.begin(&["carry-out", "evening-off", "--why", "the last boat is in"]);
        server.run_is(run, &["finished"]);
        run
    });
    go(&format!("/runs/{run}")).await;
    browser.see("of 7 steps").await;
    picture(&browser, "run-hosts").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}
