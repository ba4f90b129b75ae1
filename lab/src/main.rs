//! The lab demo: three real hosts of Brannock Sound Ferries on this machine, and a Yantro server before them. Ends with
//! all of them on Ctrl-C. Arguments go to `yantro serve`.

use std::{
    path::PathBuf,
    process::{Command, ExitCode},
    sync::atomic::{AtomicI32, Ordering},
    time::Duration,
};

use yantro_lab::{Lab, ferry::Ferry, hindrance, until};

fn main() -> ExitCode {
    if let Some(why) = hindrance() {
        eprintln!("the lab demo cannot be raised here: {why}");
        return ExitCode::FAILURE;
    }
    let beside = std::env::current_exe().ok().and_then(|p| Some(p.parent()?.to_path_buf())).unwrap_or_else(|| PathBuf::from("."));
    let Some(lab) = Lab::raise() else { return ExitCode::FAILURE };
    println!("raising three hosts …");
    let ferry = Ferry::raise(&lab, &beside.join("yantro-stand-in"));
    for host in [&ferry.harbour, &ferry.desk, &ferry.gate] {
        println!("  {:<8} at {}, link {}", host.name(), host.address(), host.link());
    }
    let estate = lab.file("estate.toml");
    std::fs::write(&estate, ferry.estate(&lab)).expect("there is room");
    let data = lab.file("data");
    let more: Vec<String> = std::env::args().skip(1).collect();
    // It gets Ctrl-C as we do, and ends by itself.
    let serving = Command::new(beside.join("yantro")).arg("serve").arg("--data").arg(&data).args(&more).spawn();
    let mut serving = match serving {
        Ok(child) => child,
        Err(error) => {
            eprintln!("yantro cannot be started: {error}; build it first: scripts/prepare");
            return ExitCode::FAILURE;
        }
    };
    let loaded = until("the server answers", Duration::from_secs(30), || {
        let load = Command::new(beside.join("yantro")).env("YANTRO_DATA", &data).arg("load").arg(&estate).output().ok()?;
        // An estate with faults gets no better by waiting.
        (load.status.success() || load.status.code() == Some(3)).then_some(load)
    });
    if !loaded.status.success() {
        eprintln!("{}{}", String::from_utf8_lossy(&loaded.stdout), String::from_utf8_lossy(&loaded.stderr));
        let _ = serving.kill();
        return ExitCode::FAILURE;
    }
    println!("\nexport YANTRO_DATA={}\nThen, in another terminal:  yantro board  ·  yantro restart bookings-db\n", data.display());
    outlive(serving.id());
    let _ = serving.wait();
    println!("taking the hosts down …");
    drop(ferry);
    ExitCode::SUCCESS
}

static SERVER: AtomicI32 = AtomicI32::new(0);

/// The server ends on Ctrl-C, which it gets as we do, and when we are asked to end; we outlive it to take the hosts down.
fn outlive(server: u32) {
    extern "C" fn pass_on(signal: libc::c_int) {
        // Safety: kill may be called from here, and the server is our child until it is waited for.
        unsafe { libc::kill(SERVER.load(Ordering::Relaxed), signal) };
    }
    SERVER.store(server as i32, Ordering::Relaxed);
    unsafe {
        libc::signal(libc::SIGINT, libc::SIG_IGN);
        libc::signal(libc::SIGTERM, pass_on as *const () as libc::sighandler_t);
    }
}
