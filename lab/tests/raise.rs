//! The lab itself: hosts come up, are told apart, turn themselves off and on again with their files.

use std::time::Duration;

use yantro_lab::{Lab, Spec, until};

#[test]
fn hosts_come_up_and_keep_their_files() {
    let Some(lab) = Lab::raise() else { return };
    let host = lab.host("ferry-db", 11, &Spec::default());
    let boot = host.ok(&["cat", "/proc/sys/kernel/random/boot_id"]);
    host.ok(&["sh", "-c", "echo kept > /root/kept; sync"]);
    let out = std::process::Command::new("ssh")
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
