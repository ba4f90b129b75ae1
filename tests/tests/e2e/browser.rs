//! The console in headless Chromium.

use std::{
    process::{Child, Command, Stdio},
    time::Duration,
};

use thirtyfour::prelude::*;
use yantro_e2e::Server;

/// A browser of its own; `None` where there is none, with a line that says so.
pub struct Browser {
    driver_process: DriverProcess,
    pub driver: WebDriver,
    _profile: tempfile::TempDir,
}

/// Ends with the test, however that ends, and takes its browser along.
struct DriverProcess(Child, String);

impl Drop for DriverProcess {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
        for pid in yantro_e2e::processes_with(&self.1) {
            unsafe { libc::kill(pid, libc::SIGKILL) };
        }
    }
}

fn there_is(name: &str) -> bool {
    Command::new(name).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok()
}

impl Browser {
    pub async fn open(width: u32, height: u32) -> Option<Self> {
        if !there_is("chromium") || !there_is("chromedriver") {
            eprintln!("no chromium and chromedriver here: this browser test is left out");
            return None;
        }
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let profile = tempfile::tempdir().unwrap();
        let driver_process = DriverProcess(
            Command::new("chromedriver")
                .args([format!("--port={port}"), "--allowed-ips=127.0.0.1".to_owned()])
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
                .unwrap(),
            profile.path().display().to_string(),
        );
        let mut caps = DesiredCapabilities::chrome();
        for arg in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--hide-scrollbars",
            "--disable-dev-shm-usage",
        ] {
            caps.add_arg(arg).unwrap();
        }
        caps.add_arg(&format!("--user-data-dir={}", profile.path().display())).unwrap();
        caps.add_arg(&format!("--window-size={width},{height}")).unwrap();
        caps.set_binary("/usr/bin/chromium").unwrap();
        let address = format!("http://127.0.0.1:{port}");
        for _ in 0..200 {
            if let Ok(driver) = WebDriver::new(&address, caps.clone()).await {
                return Some(Self { driver_process, driver, _profile: profile });
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("chromedriver does not answer at {address}");
    }

    /// Signs in by a one-time link.
    pub async fn sign_in(&self, server: &Server) {
        let link = tokio::task::block_in_place(|| server.ok(&["sign-in"]));
        self.driver.goto(link.trim()).await.unwrap();
        self.see("Board").await;
    }

    /// Waits until the page shows this text.
    pub async fn see(&self, text: &str) {
        for _ in 0..600 {
            let body = self.driver.find(By::Tag("body")).await;
            if let Ok(body) = body
                && body.text().await.is_ok_and(|t| t.contains(text))
            {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let body = self.driver.find(By::Tag("body")).await.unwrap().text().await.unwrap_or_default();
        panic!("the page never showed \"{text}\"; it shows:\n{body}");
    }

    /// Presses a button or link by its name.
    pub async fn press(&self, name: &str) {
        let path = format!("//button[normalize-space(.)='{name}'] | //a[normalize-space(.)='{name}'] | //*[@aria-label='{name}']");
        for _ in 0..200 {
            if let Ok(element) = self.driver.find(By::XPath(&path)).await
                && element.is_enabled().await.unwrap_or(false)
                && element.click().await.is_ok()
            {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("nothing that can be pressed is called \"{name}\"");
    }

    pub async fn close(self) {
        let Self { driver_process, driver, _profile } = self;
        let _ = driver.quit().await;
        drop(driver_process);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_planned_begun_held_and_mended_in_the_console() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let server = tokio::task::block_in_place(Server::demo);
    browser.sign_in(&server).await;
    browser.see("quay-1/fares-db").await;
    // One gate is broken from its next start on.
    server.trouble("gate-pier-north-right", Some("forbidden-line"));
    browser.driver.goto(format!("{}/plan?wish=restart&of=quay-2%2Fbooking", server.base())).await.unwrap();
    browser.see("group gates keeps 2 up").await;
    browser.driver.find(By::XPath("//label[contains(., 'may fall below')]/input")).await.unwrap().click().await.unwrap();
    browser.see("Said in so many words").await;
    browser.press("Restart…").await;
    browser.see("No tickets can be sold.").await;
    browser.press("Restart now").await;
    browser.see("held").await;
    browser.see("forbidden line").await;
    browser.see("ERROR manifest refused").await;
    // Mended, it is tried again, and the run finishes while the page looks on.
    server.trouble("gate-pier-north-right", None);
    browser.press("Try again").await;
    browser.see("finished").await;
    let view = tokio::task::block_in_place(|| server.get("/runs/2"));
    assert_eq!(view["state"], "finished");
    // Everything can be reached by keyboard: the palette goes to the map.
    browser.driver.active_element().await.unwrap().send_keys(Key::Control + "k").await.unwrap();
    browser.see("Go to").await;
    browser.driver.active_element().await.unwrap().send_keys("map" + Key::Enter).await.unwrap();
    browser.see("A line runs from what is relied on").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cut_stream_is_shown_and_mended() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let mut server = tokio::task::block_in_place(Server::bare);
    let link = tokio::task::block_in_place(|| server.ok(&["sign-in"]));
    browser.driver.goto(link.trim()).await.unwrap();
    browser.see("No estate yet").await;
    let port = server.base().rsplit(':').next().unwrap().to_owned();
    server.kill();
    browser.see("not in touch").await;
    tokio::task::block_in_place(|| server.start(&["--listen", &format!("127.0.0.1:{port}")]));
    let body = browser.driver.find(By::Tag("body")).await.unwrap();
    in_touch_again(&body).await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

async fn in_touch_again(body: &WebElement) {
    for _ in 0..600 {
        if body.text().await.is_ok_and(|t| !t.contains("not in touch")) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the page never said that it is in touch again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_procedure_is_rehearsed_and_carried_out_in_the_console() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let server = tokio::task::block_in_place(Server::demo);
    browser.sign_in(&server).await;
    let base = server.base();
    browser.driver.goto(format!("{base}/procedures")).await.unwrap();
    browser.press("Piers off for the night").await;
    browser.see("9 in 10 within").await;
    // What if: the first gate does not stop, and the night desk takes over.
    let bar = browser.driver.query(By::Css("g[aria-label^='Step 2:']")).first().await.unwrap();
    bar.send_keys(" ").await.unwrap();
    browser.see("its rule").await;
    browser.see("divert to night-desk").await;
    browser.press("Carry out…").await;
    browser.see("Who notices").await;
    browser.press("Carry out now").await;
    browser.see("Is the last boat in?").await;
    browser.press("Yes").await;
    browser.see("finished").await;
    // A note for whoever comes next, and the report.
    let note = browser.driver.query(By::Css("input[placeholder='What the next one should know']")).first().await.unwrap();
    note.send_keys("boards of the north pier are dark" + Key::Enter).await.unwrap();
    browser.see("boards of the north pier are dark").await;
    browser.press("Report").await;
    browser.see("beside run").await;
    browser.see("answered step 1: yes").await;
    // A question before the begin that is answered wrongly is told beside it.
    browser.driver.goto(format!("{base}/procedures/patch-fares-db")).await.unwrap();
    browser.see("Which package?").await;
    let field = browser.driver.query(By::Css("section[aria-label='Questions'] input")).first().await.unwrap();
    field.send_keys("$(reboot)").await.unwrap();
    browser.see("is not allowed").await;
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

/// A browser has six connections to one server: pages that were left, and tabs that nobody sees, must not use
/// them up.
#[tokio::test(flavor = "multi_thread")]
async fn many_pages_and_tabs_do_not_starve_each_other() {
    let Some(browser) = Browser::open(1280, 800).await else { return };
    let server = tokio::task::block_in_place(|| Server::with_estate(&crate::quick::estate(&[])));
    browser.sign_in(&server).await;
    let base = server.base();
    for path in ["/map", "/plan", "/procedures", "/runs", "/", "/map", "/plan", "/runs"] {
        browser.driver.goto(format!("{base}{path}")).await.unwrap();
        browser.see("Quick ferries").await;
    }
    for _ in 0..7 {
        let tab = browser.driver.new_tab().await.unwrap();
        browser.driver.switch_to_window(tab).await.unwrap();
        browser.driver.goto(format!("{base}/")).await.unwrap();
        browser.see("quay/").await;
    }
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}
