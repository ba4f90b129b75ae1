//! Three hosts of Brannock Sound Ferries: the harbour database, the booking desk, and the gate to the outside.

use std::path::Path;

use crate::{
    Host, Lab, Spec,
    controller::{ACCOUNT, Controller},
};

/// The three hosts, on.
pub struct Ferry<'l> {
    /// PostgreSQL.
    pub harbour: Host<'l>,
    /// Redis, and the booking desk that works with both.
    pub desk: Host<'l>,
    /// nginx before the booking desk.
    pub gate: Host<'l>,
    /// What gives all three their power.
    pub controller: Controller,
}

/// The estate, but for the addresses of one lab.
const ESTATE: &str = include_str!("ferry.toml");

const DESK_UNIT: &str = "[Unit]
Description=Booking desk
After=network.target redis-server.service
Wants=redis-server.service

[Service]
User=www-data
ExecStart=/opt/ferry/stand-in --name booking --listen @DESK@:8080 --needs @HARBOUR@:5432 --needs @DESK@:6379 --ready-after 400ms
Restart=on-failure
RestartSec=1
TimeoutStopSec=20

[Install]
WantedBy=multi-user.target
";

/// What patches a host in this scenario: it notes the set of patches, which counts from the next boot on.
const PATCH: &str = "#!/bin/sh
set -e
echo \"$1\" > /opt/ferry/patches
echo \"patches $1 are in; they count from the next boot on\"
";

const GATE_SITE: &str = "server {
  listen 80 default_server;
  location / { proxy_pass http://@DESK@:8080; proxy_connect_timeout 2s; }
}
";

impl<'l> Ferry<'l> {
    /// Raises all three side by side. `stand_in` is the program of the booking desk.
    pub fn raise(lab: &'l Lab, stand_in: &Path) -> Self {
        let filled = |text: &str| fill(lab, text);
        let units = ["postgresql", "redis-server", "nginx", "booking"];
        let mask = |keep: &[&str]| units.iter().filter(|u| !keep.contains(u)).map(|u| (*u).to_owned()).collect::<Vec<_>>();
        let file = |path: &str, text: String| (path.to_owned(), 0o644, text);
        let specs = [
            Spec {
                files: vec![
                    file("/etc/postgresql/15/main/conf.d/ferry.conf", "listen_addresses = '*'\nfsync = off\n".to_owned()),
                    ("/opt/ferry/patch".to_owned(), 0o755, PATCH.to_owned()),
                    file("/opt/ferry/patches", "2026.10\n".to_owned()),
                ],
                enable: vec!["postgresql".to_owned()],
                mask: mask(&["postgresql"]),
                prepare: "chown -R postgres:postgres /etc/postgresql/15/main/conf.d".to_owned(),
                ..Spec::default()
            },
            Spec {
                files: vec![
                    file("/etc/systemd/system/booking.service", filled(DESK_UNIT)),
                    file("/etc/systemd/system/redis-server.service.d/ferry.conf", "[Service]\nExecStart=\nExecStart=/usr/bin/redis-server /etc/redis/redis.conf --supervised systemd --daemonize no --bind 0.0.0.0 --protected-mode no --save ''\n".to_owned()),
                ],
                programs: vec![(stand_in.to_path_buf(), "/opt/ferry/stand-in".to_owned())],
                enable: vec!["redis-server".to_owned(), "booking".to_owned()],
                mask: mask(&["redis-server", "booking"]),
                prepare: "chmod 755 /opt/ferry /opt/ferry/stand-in".to_owned(),
            },
            Spec {
                files: vec![file("/etc/nginx/sites-enabled/default", filled(GATE_SITE))],
                enable: vec!["nginx".to_owned()],
                mask: mask(&["nginx"]),
                ..Spec::default()
            },
        ];
        let [harbour, desk, gate] = specs;
        std::thread::scope(|scope| {
            let harbour = scope.spawn(move || lab.host("harbour", 11, &harbour));
            let desk = scope.spawn(move || lab.host("desk", 12, &desk));
            let gate = scope.spawn(move || lab.host("gate", 13, &gate));
            let join = |host: std::thread::ScopedJoinHandle<'_, Host<'l>>| host.join().expect("a host of the lab comes up");
            let (harbour, desk, gate) = (join(harbour), join(desk), join(gate));
            let controller = Controller::serve(lab, [harbour.machine(), desk.machine(), gate.machine()]);
            std::fs::write(lab.file("controller-password"), format!("{}\n", ACCOUNT.1)).expect("there is room");
            Self { harbour, desk, gate, controller }
        })
    }

    /// What the estate of a lab is.
    pub fn estate(&self, lab: &Lab) -> String {
        fill(lab, ESTATE)
            .replace("@CONTROLLER@", &self.controller.url())
            .replace("@ACCOUNT@", ACCOUNT.0)
            .replace("@BELIEVES@", &self.controller.certificate().display().to_string())
            .replace("@PASSWORD@", &format!("file:{}", lab.file("controller-password").display()))
    }
}

fn fill(lab: &Lab, text: &str) -> String {
    text.replace("@HARBOUR@", &lab.address(11))
        .replace("@DESK@", &lab.address(12))
        .replace("@GATE@", &lab.address(13))
        .replace("@HERE@", &lab.address(1))
        .replace("@KEY@", &lab.file("key").display().to_string())
        .replace("@KNOWN@", &lab.file("known_hosts").display().to_string())
}
