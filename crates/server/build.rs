//! The built interface is embedded; its folder has to be there when the crate is compiled.

fn main() -> std::io::Result<()> {
    println!("cargo:rerun-if-changed=../../web/dist");
    std::fs::create_dir_all("../../web/dist")
}
