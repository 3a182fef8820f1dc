//! A console file that is only added must make the binary new too.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
