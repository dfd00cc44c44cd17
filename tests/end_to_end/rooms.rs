//! The arrows between the rooms of the workspace, and what a room may not do.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Each crate with the ones it may depend on.
const MAY: &[(&str, &[&str])] = &[
    ("passeur-core", &[]),
    ("passeur-api", &[]),
    ("passeur-protocols", &["core"]),
    ("passeur-store", &["core"]),
    ("passeur-gss", &[]),
    ("passeur-links", &["core", "gss", "protocols"]),
    ("passeur-gateway", &["core", "links"]),
    ("passeur-service", &["core", "api", "protocols", "store", "links", "gateway"]),
    ("passeur-cli", &["core", "api", "links", "service"]),
    ("passeur-standins", &[]),
    ("passeur-bench", &["core", "gss", "protocols", "gateway", "links", "service", "store", "standins"]),
    ("passeur-tests", &["core", "api", "gateway", "links", "protocols", "service", "store", "standins"]),
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

#[test]
fn dependencies_point_downward_only() {
    let metadata = cargo_metadata::MetadataCommand::new().manifest_path(root().join("Cargo.toml")).no_deps().exec().unwrap();
    let may: BTreeMap<_, _> = MAY.iter().copied().collect();
    for package in &metadata.packages {
        let allowed = may.get(package.name.as_str()).unwrap_or_else(|| panic!("{} is no room of the map", package.name));
        for d in package.dependencies.iter().filter(|d| d.path.is_some()) {
            let short = d.name.strip_prefix("passeur-").unwrap();
            assert!(allowed.contains(&short), "{} may not depend on {}", package.name, d.name);
        }
        let forbidden: &[&str] = match package.name.as_str() {
            "passeur-gateway" => &["axum", "diesel", "diesel-async"],
            "passeur-core" => &["tokio", "axum", "hyper", "diesel", "reqwest"],
            "passeur-protocols" => &["tokio", "reqwest", "hyper"],
            _ => &[],
        };
        for d in &package.dependencies {
            assert!(!forbidden.contains(&d.name.as_str()), "{} may not use {}", package.name, d.name);
        }
    }
    assert_eq!(metadata.packages.len(), MAY.len());
}

fn sources(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, out);
        } else if path.extension().is_some_and(|e| e == "rs") {
            out.push(path);
        }
    }
}

#[test]
fn core_and_protocols_have_no_clock_and_no_randomness() {
    for room in ["core", "protocols"] {
        let mut files = vec![];
        sources(&root().join("crates").join(room).join("src"), &mut files);
        assert!(!files.is_empty());
        for file in files {
            let text = std::fs::read_to_string(&file).unwrap();
            let code = text.split("#[cfg(test)]").next().unwrap();
            for forbidden in [
                "Utc::now",
                "Local::now",
                "SystemTime",
                "Instant::now",
                "rand::",
                "std::fs",
                "std::net::Tcp",
                "async fn",
                "println!",
            ] {
                assert!(!code.contains(forbidden), "{} uses {forbidden}", file.display());
            }
        }
    }
}

#[test]
fn sql_never_asks_for_the_time() {
    let mut files = vec![];
    sources(&root().join("crates/store/src"), &mut files);
    let migrations = root().join("crates/store/migrations");
    for folder in std::fs::read_dir(migrations).unwrap() {
        files.push(folder.unwrap().path().join("up.sql"));
    }
    for file in files {
        let text = std::fs::read_to_string(&file).unwrap().to_lowercase();
        for forbidden in ["now()", "current_timestamp", "clock_timestamp", "current_date"] {
            assert!(!text.contains(forbidden), "{} uses {forbidden}", file.display());
        }
    }
}

#[test]
fn every_step_of_the_catalogue_is_taken_somewhere() {
    let mut files = vec![];
    sources(&root().join("crates"), &mut files);
    let code: String = files
        .iter()
        .filter(|f| !f.ends_with("step/catalogue.rs") && !f.components().any(|c| c.as_os_str() == "tests"))
        .map(|f| std::fs::read_to_string(f).unwrap().split("#[cfg(test)]").next().unwrap().to_owned())
        .collect();
    for step in passeur_core::step::ALL {
        let name = format!("{step:?}");
        let taken = code.match_indices(&name).any(|(at, _)| !code[at + name.len()..].starts_with(|c: char| c.is_alphanumeric()));
        assert!(taken, "{name} is never taken");
    }
}
