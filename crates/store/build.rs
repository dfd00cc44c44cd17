//! Embedded migrations are read when the crate is built: a changed one must build it anew.

fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
