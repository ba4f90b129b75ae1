//! Builds what is carried to where acts are given, small and statically linked where that works: the recorder always,
//! and in a release the outpost for whoever reaches other hosts. Both are built into whatever links this crate. Other
//! builds find the outpost beside their program, so that it need not be built a second time.

use std::{
    env,
    path::{Path, PathBuf},
    process::Command,
};

fn main() {
    let here = PathBuf::from(env::var("CARGO_MANIFEST_DIR").expect("cargo sets it"));
    let root = here.join("../..");
    let out = PathBuf::from(env::var("OUT_DIR").expect("cargo sets it"));
    // One place for all builds of one tree (the linter's, the tests', the outpost's own), so that each is built once:
    // beside the folder of the profile, which this one's is build/NAME/out below.
    println!("cargo:rerun-if-env-changed=YANTRO_CARRIED");
    let beside = out.ancestors().nth(4).filter(|_| out.ancestors().nth(2).is_some_and(|p| p.ends_with("build")));
    let carried = env::var("YANTRO_CARRIED").map_or_else(|_| beside.unwrap_or(&out).join("carried"), PathBuf::from);
    println!("cargo:rustc-check-cfg=cfg(carries_outpost)");
    if env::var("CARGO_FEATURE_RECORDER").is_ok() {
        watch(&root.join("recorder"));
        let recorder = built(&root.join("recorder"), &carried, "yantro-recorder", &[]);
        println!("cargo:rustc-env=YANTRO_RECORDER={}", recorder.display());
    }
    #[cfg(feature = "outpost")]
    if env::var("PROFILE").is_ok_and(|p| p == "release") {
        for source in ["outpost", "recorder", "crates/yantro-core", "crates/yantro-reach"] {
            watch(&root.join(source));
        }
        let outpost = built(&root.join("outpost"), &carried, "yantro-outpost", &["--features", "carried"]);
        println!("cargo:rustc-env=YANTRO_OUTPOST={}", packed(&outpost).display());
        println!("cargo:rustc-cfg=carries_outpost");
    }
}

fn watch(source: &Path) {
    for file in ["Cargo.toml", "Cargo.lock", "src"] {
        if source.join(file).exists() {
            println!("cargo:rerun-if-changed={}", source.join(file).display());
        }
    }
}

/// Builds a small workspace, and copies its program to where only this build looks: another may build it anew.
fn built(source: &Path, carried: &Path, name: &str, features: &[&str]) -> PathBuf {
    let target = env::var("TARGET").expect("cargo sets it");
    let into = carried.join(name);
    // The linker that comes with Rust for this target makes it smaller still: alike functions once, places to be moved in short.
    let tight = "-C target-feature=+crt-static -C link-arg=-Wl,--icf=safe -C link-arg=-Wl,-z,pack-relative-relocs";
    let first = (target == "x86_64-unknown-linux-gnu").then_some(tight);
    let done =
        first.into_iter().chain(["-C target-feature=+crt-static", ""]).any(|flags| build(source, carried, &into, &target, flags, features));
    assert!(done, "{name} cannot be built; run `cargo build --release` in {} to see why", source.display());
    let kept = PathBuf::from(env::var("OUT_DIR").expect("cargo sets it")).join(name);
    std::fs::copy(into.join(&target).join("release").join(name), &kept).expect("what was built can be copied");
    kept
}

/// Packs a program as it is carried: in the form of xz(1), with jumps made alike first where the processor's are known.
#[cfg(feature = "outpost")]
fn packed(program: &Path) -> PathBuf {
    use liblzma::stream::{Check, Filters, LzmaOptions, Stream};
    let mut filters = Filters::new();
    // That of others is known to newer ones of xz(1) only.
    if env::var("CARGO_CFG_TARGET_ARCH").is_ok_and(|arch| arch == "x86_64") {
        filters.x86();
    }
    let mut tightest = LzmaOptions::new_preset(9 | 1 << 31).expect("the tightest preset there is");
    // No more memory to unpack it than it takes itself: hosts are small, too.
    tightest.dict_size(8 << 20);
    filters.lzma2(&tightest);
    let stream = Stream::new_stream_encoder(&filters, Check::Crc32).expect("filters that go together");
    let into = program.with_extension("xz");
    let mut writer = liblzma::write::XzEncoder::new_stream(std::fs::File::create(&into).expect("a file beside it can be made"), stream);
    std::io::copy(&mut std::fs::File::open(program).expect("it was built"), &mut writer).expect("it can be packed");
    writer.finish().expect("it can be packed");
    into
}

fn build(source: &Path, carried: &Path, into: &Path, target: &str, flags: &str, features: &[&str]) -> bool {
    let mut cargo = Command::new(env::var("CARGO").expect("cargo sets it"));
    // A wrapper or flags meant for the outer build (a linter's, say) do not belong to this one.
    for key in ["RUSTC_WRAPPER", "RUSTC_WORKSPACE_WRAPPER", "CARGO_ENCODED_RUSTFLAGS", "RUSTFLAGS", "CARGO_MAKEFLAGS", "MAKEFLAGS"] {
        cargo.env_remove(key);
    }
    // Nor do this build's features: the outpost does not carry another outpost.
    for (key, _) in env::vars().filter(|(key, _)| key.starts_with("CARGO_FEATURE_")) {
        cargo.env_remove(key);
    }
    cargo
        .env("RUSTFLAGS", flags)
        .env("YANTRO_CARRIED", carried)
        // Carried over the wire to each host: small comes before fast, which it has no need to be.
        .env("CARGO_PROFILE_RELEASE_OPT_LEVEL", "z")
        .env("CARGO_PROFILE_RELEASE_LTO", "fat")
        .env("CARGO_PROFILE_RELEASE_CODEGEN_UNITS", "1")
        .env("CARGO_PROFILE_RELEASE_STRIP", "true")
        // Acts have recorders, and the server connects anew: a fault of ours ends it at once, rather than leaving an answer out.
        .env("CARGO_PROFILE_RELEASE_PANIC", "abort")
        .args(["build", "--release", "--locked", "--quiet", "--target", target])
        .arg("--manifest-path")
        .arg(source.join("Cargo.toml"))
        .arg("--target-dir")
        .arg(into)
        .args(features)
        .status()
        .is_ok_and(|status| status.success())
}
