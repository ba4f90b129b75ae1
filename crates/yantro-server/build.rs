//! Sees to it that there is a console to build in: without one, a page that says how to make it.

use std::{fs, path::PathBuf};

fn main() {
    let dist = PathBuf::from(std::env::var("CARGO_MANIFEST_DIR").expect("cargo sets it")).join("../../console/dist");
    let index = dist.join("index.html");
    if !index.exists() {
        fs::create_dir_all(&dist).expect("the console's folder can be made");
        let page = "<!doctype html><title>Yantro</title><p>The console was not built in. Run scripts/build, which builds it first.</p>\n";
        fs::write(&index, page).expect("the console's folder can be written");
    }
    println!("cargo:rerun-if-changed={}", dist.display());
}
