//! The console's files become part of the binary, so they must be there first.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
    assert!(
        std::path::Path::new("../../console/dist/index.html").exists(),
        "the console is not built: run `make console` first"
    );
}
