//! A host with a service manager of its own: namespaces with a real systemd as pid 1. Needs root.

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    time::{Duration, Instant},
};

use crate::{program, wait_until};

/// What makes the namespaces a host. `DIR` is its folder, seen inside as `/tmp/w`.
const INIT: &str = r#"set -e
mount --make-rprivate /
mount -t overlay overlay -o lowerdir=/,upperdir=DIR/up,workdir=DIR/work DIR/root
cd DIR/root
mount -t proc proc proc; mount -t sysfs -o ro sysfs sys; mount --rbind /dev dev
mount -t tmpfs tmpfs run; mkdir -p run/lock; mount -t tmpfs tmpfs tmp
mkdir tmp/w; mount --bind DIR/shared tmp/w
mount -t tmpfs -o mode=755 tmpfs sys/fs/cgroup
mount -o bind,ro proc/sys proc/sys
for unit in systemd-udevd systemd-udev-trigger systemd-sysctl systemd-modules-load systemd-remount-fs systemd-binfmt \
  systemd-networkd systemd-resolved console-getty getty@tty1 ssh avahi-daemon; do ln -sf /dev/null etc/systemd/system/$unit.service; done
pivot_root . mnt; umount -l /mnt
exec env -i container=test PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --system --unit=multi-user.target --log-target=journal
"#;

/// A host, on until dropped.
pub struct Host {
    dir: tempfile::TempDir,
    outer: Child,
    pid1: i32,
}

impl Host {
    /// Raises one; `None` where that cannot be done here, with a line that says why.
    pub fn raise() -> Option<Self> {
        let left_out = |why: &str| {
            eprintln!("no host with a manager of its own can be raised here ({why}): this test is left out");
            None
        };
        if unsafe { libc::geteuid() } != 0 {
            return left_out("it takes root");
        }
        for needed in ["/lib/systemd/systemd", "/usr/bin/busctl", "/usr/bin/unshare", "/usr/bin/nsenter", "/usr/bin/dbus-daemon"] {
            if !Path::new(needed).exists() {
                return left_out(&format!("{needed} is missing"));
            }
        }
        let dir = tempfile::Builder::new().prefix("yantro-host-").tempdir_in("/var/tmp").expect("a folder can be made");
        for below in ["up", "work", "root", "shared"] {
            fs::create_dir(dir.path().join(below)).expect("a folder can be made");
        }
        for name in ["yantro", "yantro-stand-in"] {
            fs::copy(program(name), dir.path().join("shared").join(name)).expect("there is room");
        }
        let init = dir.path().join("init");
        fs::write(&init, INIT.replace("DIR", &dir.path().display().to_string())).expect("there is room");
        let console = fs::File::create(dir.path().join("console")).expect("there is room");
        let mut outer = Command::new("unshare")
            .args(["--net", "--pid", "--fork", "--mount", "--uts", "--ipc", "--cgroup", "--kill-child", "bash"])
            .arg(&init)
            .stdin(Stdio::null())
            .stdout(console.try_clone().expect("a file can be shared"))
            .stderr(console)
            .spawn()
            .expect("unshare is there");
        let began = Instant::now();
        loop {
            if outer.try_wait().is_ok_and(|s| s.is_some()) {
                let said = fs::read_to_string(dir.path().join("console")).unwrap_or_default();
                return left_out(said.lines().last().unwrap_or("the namespaces could not be made"));
            }
            if let Some(pid1) = child_of(outer.id()) {
                let host = Self { dir, outer, pid1 };
                wait_until("the host is up", || {
                    let state = String::from_utf8_lossy(&host.run(&["systemctl", "is-system-running"]).stdout).into_owned();
                    ["running", "degraded"].contains(&state.trim()).then_some(())
                });
                host.run(&["ip", "link", "set", "lo", "up"]);
                return Some(host);
            }
            assert!(began.elapsed() < Duration::from_secs(20), "the host's first process never came");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// A file that the host sees as `/tmp/w/NAME`.
    pub fn shared(&self, name: &str) -> PathBuf {
        self.dir.path().join("shared").join(name)
    }

    /// Runs something on the host.
    pub fn run(&self, words: &[&str]) -> Output {
        Command::new("nsenter")
            .args(["-t", &self.pid1.to_string(), "-a", "env", "YANTRO_DATA=/tmp/data", "YANTRO_WHO=maren"])
            .args(words)
            .stdin(Stdio::null())
            .output()
            .expect("nsenter is there")
    }

    /// Runs something that must succeed, and gives what it printed.
    pub fn ok(&self, words: &[&str]) -> String {
        let out = self.run(words);
        assert!(out.status.success(), "{}: {}", words.join(" "), crate::told(&out));
        String::from_utf8_lossy(&out.stdout).into_owned()
    }
}

fn child_of(pid: u32) -> Option<i32> {
    fs::read_dir("/proc").ok()?.flatten().filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok()).find(|child| {
        let stat = fs::read_to_string(format!("/proc/{child}/stat")).unwrap_or_default();
        let parent = stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(1)?.parse::<u32>().ok());
        // The shell of the init script becomes the manager: only then is it the host's first process.
        parent == Some(pid) && fs::read_to_string(format!("/proc/{child}/comm")).is_ok_and(|c| c.trim() == "systemd")
    })
}

impl Drop for Host {
    fn drop(&mut self) {
        // Its first process takes everything in its namespace along.
        unsafe { libc::kill(self.pid1, libc::SIGKILL) };
        let _ = self.outer.wait();
    }
}
