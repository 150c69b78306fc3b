//! Rebuilds when the console was rebuilt: its files become part of the binary.
fn main() {
    println!("cargo:rerun-if-changed=../../console/dist/index.html");
    println!("cargo:rerun-if-changed=profiles");
}
