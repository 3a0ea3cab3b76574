//! Says where the console's built files are, if they are: the service embeds them. Without them it still builds, and serves a page
//! that says how to build the console.

use std::{env, fs, path::PathBuf};

fn main() {
    let manifest = PathBuf::from(env::var_os("CARGO_MANIFEST_DIR").unwrap_or_default());
    let built = manifest.join("../../console/dist");
    println!("cargo:rerun-if-changed={}", built.display());
    let folder = if built.join("index.html").exists() {
        built
    } else {
        let empty = PathBuf::from(env::var_os("OUT_DIR").unwrap_or_default()).join("no-console");
        let _ = fs::create_dir_all(&empty);
        empty
    };
    println!("cargo:rustc-env=FENETRE_CONSOLE={}", folder.display());
}
