//! Rebuilds when the console was built anew: its files become part of the binary.
fn main() {
    println!("cargo:rerun-if-changed=../../console/dist/index.html");
    println!("cargo:rerun-if-changed=profiles");
}
