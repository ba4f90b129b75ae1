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
