//! Builds the recorder, small and statically linked where that works, so that it is built into
//! whatever links this crate.

use std::{env, path::PathBuf, process::Command};

fn main() {
    let here = PathBuf::from(env::var("CARGO_MANIFEST_DIR").expect("cargo sets it"));
    let recorder = here.join("../../recorder");
    for file in ["Cargo.toml", "Cargo.lock", "src"] {
        println!("cargo:rerun-if-changed={}", recorder.join(file).display());
    }
    let out = PathBuf::from(env::var("OUT_DIR").expect("cargo sets it"));
    let target = env::var("TARGET").expect("cargo sets it");
    let built = [true, false].into_iter().any(|is_static| build(&recorder, &out, &target, is_static));
    assert!(built, "the recorder cannot be built; run `cargo build --release` in recorder/ to see why");
    println!("cargo:rustc-env=YANTRO_RECORDER={}", out.join("recorder").join(&target).join("release/yantro-recorder").display());
}

fn build(recorder: &std::path::Path, out: &std::path::Path, target: &str, is_static: bool) -> bool {
    let mut cargo = Command::new(env::var("CARGO").expect("cargo sets it"));
    // A wrapper or flags meant for the outer build (a linter's, say) do not belong to this one.
    for key in ["RUSTC_WRAPPER", "RUSTC_WORKSPACE_WRAPPER", "CARGO_ENCODED_RUSTFLAGS", "RUSTFLAGS", "CARGO_MAKEFLAGS", "MAKEFLAGS"] {
        cargo.env_remove(key);
    }
    if is_static {
        cargo.env("RUSTFLAGS", "-C target-feature=+crt-static");
    }
    cargo
        .args(["build", "--release", "--locked", "--quiet", "--target", target])
        .arg("--manifest-path")
        .arg(recorder.join("Cargo.toml"))
        .arg("--target-dir")
        .arg(out.join("recorder"))
        .status()
        .is_ok_and(|status| status.success())
}
