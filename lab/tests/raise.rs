//! The lab itself: hosts come up, are told apart, turn themselves off and on again with their files; what a lab that was
//! killed left behind stands in no later one's way.

use std::{process::Command, time::Duration};

use yantro_lab::{Lab, Spec, until};

#[test]
fn hosts_come_up_and_keep_their_files() {
    let Some(lab) = Lab::raise() else { return };
    let host = lab.host("ferry-db", 11, &Spec::default());
    let boot = host.ok(&["cat", "/proc/sys/kernel/random/boot_id"]);
    host.ok(&["sh", "-c", "echo kept > /root/kept; sync"]);
    let out = Command::new("ssh")
        .args(["-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes", "-i"])
        .arg(lab.file("key"))
        .args(["-o", &format!("UserKnownHostsFile={}", lab.file("known_hosts").display()), &format!("root@{}", host.address()), "hostname"])
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&out.stdout).trim(), "ferry-db", "{}", String::from_utf8_lossy(&out.stderr));
    host.run(&["systemctl", "poweroff"]);
    let reboots = until("it turned itself off", Duration::from_secs(60), || host.ended());
    assert!(!reboots);
    host.on();
    assert_eq!(host.ok(&["cat", "/root/kept"]).trim(), "kept");
    assert_ne!(host.ok(&["cat", "/proc/sys/kernel/random/boot_id"]), boot);
    host.run(&["systemctl", "reboot"]);
    assert!(until("it ended for a reboot", Duration::from_secs(60), || host.ended()), "a reboot is told from a power-off");
}

fn ip(words: &[&str]) -> bool {
    Command::new("ip").args(words).output().is_ok_and(|out| out.status.success())
}

#[test]
fn a_lab_that_was_killed_stands_in_no_later_ones_way() {
    let Some(lab) = Lab::raise() else { return };
    // Its number is the next one's, and so are its names.
    let number = lab.address(1).split('.').nth(2).unwrap().to_owned();
    let (netns, link) = (format!("yl{number}-left"), format!("yl{number}v11"));
    for round in 0..2 {
        assert!(ip(&["netns", "add", &netns]), "{round}");
        assert!(ip(&["link", "add", &link, "type", "veth", "peer", "name", "eth0", "netns", &netns]), "{round}");
        // Somebody is in it still when it is deleted: its links stay for as long.
        let mut stays = Command::new("ip").args(["netns", "exec", &netns, "sleep", "2"]).spawn().unwrap();
        let host = lab.host("left", 11, &Spec::default());
        assert!(ip(&["link", "show", &link]));
        drop(host);
        assert!(!ip(&["link", "show", &link]), "{round}: nothing of it is left");
        let _ = stays.wait();
    }
}
