//! Hosts in the console: looked through, taken in, rebooted.

use thirtyfour::prelude::*;
use yantro_e2e::{Server, wait_until};
use yantro_lab::{Lab, controller::Controller};

use crate::{
    browser::Browser,
    far::{connected, link, raise},
    power,
};

#[tokio::test(flavor = "multi_thread")]
async fn a_host_is_looked_through_and_rebooted_in_the_console() {
    let Some(browser) = Browser::open(1280, 900).await else { return };
    let Some(lab) = tokio::task::block_in_place(Lab::raise) else { return };
    let pier = tokio::task::block_in_place(|| raise(&lab, "pier", 11));
    pier.ok(&["sh", "-c", "printf '[Unit]\\nDescription=Tide tables\\n[Service]\\nExecStart=/opt/ferry/stand-in --name tides --listen 127.0.0.1:7100\\n' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl start tides"]);
    let controller = Controller::serve(&lab, [pier.machine()]);
    let server = tokio::task::block_in_place(|| {
        let server = Server::with_estate(&power::estate(&lab, &controller, &[&pier], "", "").replace("@MORE@", ""));
        connected(&server, "pier");
        wait_until("the host is proven", || (server.state("pier/host") == "proven").then_some(()));
        server
    });
    browser.sign_in(&server).await;
    let base = server.base();
    browser.driver.goto(format!("{base}/hosts")).await.unwrap();
    browser.see("SSH as root").await;
    browser.see("Reboot…").await;
    browser.press("Look through").await;
    browser.see("Tide tables").await;
    // The system's own plumbing is there when it is asked for.
    let body = async || browser.driver.find(By::Tag("main")).await.unwrap().text().await.unwrap();
    assert!(!body().await.contains("systemd-journald"), "{}", body().await);
    browser.press("Take tides.service in").await;
    browser.see("port = 7100").await;
    browser.press("Take it in…").await;
    browser.press("Make the edition").await;
    browser.see("Edition 2 describes pier/tides").await;
    browser.see("pier/tides").await;
    // The plan of a host has the words of hosts, and says what goes with it.
    let before = tokio::task::block_in_place(|| link(&server, "pier")["boot"].as_str().unwrap().to_owned());
    browser.driver.goto(format!("{base}/hosts")).await.unwrap();
    browser.press("reboot pier: plan it").await;
    browser.see("await return of").await;
    browser.press("Reboot…").await;
    browser.press("Reboot now").await;
    browser.see("finished").await;
    tokio::task::block_in_place(|| {
        wait_until("it is another boot", || (link(&server, "pier")["boot"].as_str().is_some_and(|b| b != before)).then_some(()));
    });
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

/// What its manager started again is said on the board, and who mends the way to a host has it tried at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_service_started_again_by_its_manager_is_said_so_and_a_host_is_tried_now() {
    let Some(browser) = Browser::open(1280, 900).await else { return };
    let Some(lab) = tokio::task::block_in_place(Lab::raise) else { return };
    let pier = tokio::task::block_in_place(|| raise(&lab, "pier", 11));
    let unit = "[Service]\\nExecStart=/bin/sleep 900\\nRestart=always\\nRestartSec=100ms\\n";
    pier.ok(&["sh", "-c", &format!("printf '{unit}' > /etc/systemd/system/tides.service; systemctl daemon-reload; systemctl start tides")]);
    let text = format!(
        "[estate]\nname = \"Sound\"\nstands_for = \"test\"\n\
         [host.pier]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ account = \"root\", key = \"{}\", known_hosts = \"{}\" }}\n\
         [service.tides]\nhost = \"pier\"\nrun_by = \"systemd\"\n",
        pier.address(),
        lab.file("key").display(),
        lab.file("known_hosts").display()
    );
    let server = tokio::task::block_in_place(|| {
        let server = Server::with_estate(&text);
        connected(&server, "pier");
        wait_until("it is proven", || (server.state("pier/tides") == "proven").then_some(()));
        server
    });
    browser.sign_in(&server).await;
    let base = server.base();
    browser.driver.goto(&base).await.unwrap();
    browser.see("tides").await;
    pier.ok(&["systemctl", "kill", "--signal=KILL", "tides"]);
    browser.see("started again once by the manager").await;
    browser.driver.goto(format!("{base}/hosts/pier")).await.unwrap();
    browser.see("Look again").await;
    pier.link_is(false);
    browser.see("Try now").await;
    let tries = || link(&server, "pier")["tries"].as_u64().unwrap_or_default();
    // By then the next attempt by itself is a while off.
    tokio::task::block_in_place(|| wait_until("it was tried some times", || (tries() >= 5).then_some(())));
    pier.link_is(true);
    browser.press("Try now").await;
    browser.see("Look again").await;
    tokio::task::block_in_place(|| assert_eq!(link(&server, "pier")["up"], true));
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

/// Pairs of texts that are drawn over each other, and how much wider the page is than what shows it.
const CROWDED: &str = r#"
    const texts = [];
    let nodes = 0;
    const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    for (let node = walker.nextNode(); node; node = walker.nextNode()) {
        const around = node.parentElement;
        if (!node.textContent.trim() || around.closest('.sr-only, svg, option, script, style') || !around.checkVisibility({ visibilityProperty: true })) continue;
        nodes += 1;
        const range = document.createRange();
        range.selectNodeContents(node);
        // What is cut off where its box ends is not drawn beyond it.
        let [left, right, top, bottom] = [0, innerWidth, 0, innerHeight];
        for (let box = around; box; box = box.parentElement) {
            if (getComputedStyle(box).overflow === 'visible') continue;
            const r = box.getBoundingClientRect();
            [left, right, top, bottom] = [Math.max(left, r.left), Math.min(right, r.right), Math.max(top, r.top), Math.min(bottom, r.bottom)];
        }
        for (const r of range.getClientRects()) {
            const t = { node: nodes, text: node.textContent.trim().slice(0, 30), l: Math.max(r.left, left), r: Math.min(r.right, right), t: Math.max(r.top + 4, top), b: Math.min(r.bottom - 4, bottom) };
            if (t.r - t.l > 1 && t.b - t.t > 1) texts.push(t);
        }
    }
    const over = [];
    for (let i = 0; i < texts.length; i++) for (let j = i + 1; j < texts.length; j++) {
        const [a, b] = [texts[i], texts[j]];
        if (a.node !== b.node && Math.min(a.r, b.r) - Math.max(a.l, b.l) > 2 && Math.min(a.b, b.b) - Math.max(a.t, b.t) > 2) over.push(`${a.text} / ${b.text}`);
    }
    const main = document.querySelector('main');
    return { over, texts: texts.length, wider: main.scrollWidth - main.clientWidth };
"#;

/// At a desk or on a telephone, nothing is drawn over anything else, and no page has to be pushed from side to side.
#[rstest::rstest]
#[case::at_a_desk(1280)]
#[case::on_a_small_screen(800)]
#[case::on_a_telephone(500)]
#[tokio::test(flavor = "multi_thread")]
async fn no_page_is_crowded(#[case] width: u32) {
    let Some(browser) = Browser::open(width, 800).await else { return };
    let server = tokio::task::block_in_place(|| {
        let server = Server::with_estate(&crate::simulated::large(12));
        server.run_is(server.begin(&["restart", "fares-0000"]), &["finished"]);
        server
    });
    browser.sign_in(&server).await;
    for (path, text) in [
        ("/", "quay-0000"),
        ("/?by=group", "in no group"),
        ("/hosts", "quay-0000"),
        ("/plan?wish=restart&of=quay-0000/fares-0000", "in all"),
        ("/runs", "restart"),
        ("/runs/1", "finished"),
        ("/procedures", "Procedures"),
        ("/logs", "Logs"),
    ] {
        browser.driver.goto(format!("{}{path}", server.base())).await.unwrap();
        browser.see(text).await;
        let told = browser.driver.execute(CROWDED, vec![]).await.unwrap();
        let told = told.json();
        assert!(told["over"].as_array().unwrap().is_empty(), "{path} at {width}: {}", told["over"]);
        assert!(told["texts"].as_u64().unwrap() > 12, "{path} at {width} shows next to nothing: {told}");
        assert!(told["wider"].as_i64().unwrap() <= 1, "{path} at {width} is wider than its screen by {}", told["wider"]);
    }
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}
