//! Where each program lies in memory.

fn main() {
    for (program, script) in [("signpost-boot-bios", "program.ld"), ("signpost-stage", "stage.ld")] {
        println!("cargo:rustc-link-arg-bin={program}=-T{script}");
        println!("cargo:rerun-if-changed={script}");
    }
}
