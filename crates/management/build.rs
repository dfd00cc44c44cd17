//! Puts the built console where it is embedded from; without one, a page that says how to build it.

use std::path::{Path, PathBuf};
use std::{env, fs, io};

fn main() -> io::Result<()> {
    let dist = Path::new("../../console/dist");
    // Cargo takes a folder that is not there as changed, each time: the crate and all above it would be built anew at every call.
    fs::create_dir_all(dist)?;
    println!("cargo:rerun-if-changed=../../console/dist");
    println!("cargo:rerun-if-changed=build.rs");
    let out = PathBuf::from(env::var_os("OUT_DIR").unwrap_or_default()).join("console");
    if out.exists() {
        fs::remove_dir_all(&out)?;
    }
    fs::create_dir_all(&out)?;
    if dist.join("index.html").exists() {
        copy(dist, &out)
    } else {
        let page = "<!doctype html><html lang=\"en\"><title>Console not built</title><p>This binary was built without its console. \
                    Run <code>npm ci && npm run build</code> in <code>console/</code> and build again.</p></html>";
        fs::write(out.join("index.html"), page)
    }
}

fn copy(from: &Path, to: &Path) -> io::Result<()> {
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            fs::create_dir_all(&target)?;
            copy(&entry.path(), &target)?;
        } else {
            fs::copy(entry.path(), &target)?;
        }
    }
    Ok(())
}
