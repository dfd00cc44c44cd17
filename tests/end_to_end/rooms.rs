//! The arrows between the rooms of the workspace, and what a room may not do.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Each crate with the ones it may depend on.
const MAY: &[(&str, &[&str])] = &[
    ("passeur-core", &[]),
    ("passeur-api", &["core"]),
    ("passeur-protocols", &["core"]),
    ("passeur-store", &["core"]),
    ("passeur-gss", &[]),
    ("passeur-live", &["core"]),
    ("passeur-http", &["core"]),
    ("passeur-links", &["core", "gss", "live", "protocols"]),
    ("passeur-gateway", &["core", "live", "http"]),
    ("passeur-engine", &["core", "protocols", "store", "live", "links"]),
    // Beside the data path: an address on a link instead of a cookie.
    ("passeur-gate-network", &["core", "protocols", "store", "live", "engine", "sluice"]),
    // Tunnels end at a machine of a network gate; certificates of RADIUS clients are judged where those of programs are.
    ("passeur-gate-vpn", &["core", "protocols", "store", "live", "links", "engine", "gate-network"]),
    ("passeur-signin", &["core", "api", "protocols", "store", "live", "http", "links", "engine"]),
    (
        "passeur-management",
        &["core", "api", "protocols", "store", "live", "http", "links", "gateway", "gate-network", "engine", "signin"],
    ),
    (
        "passeur-service",
        &["core", "store", "live", "http", "links", "gateway", "gate-network", "gate-vpn", "engine", "signin", "management"],
    ),
    ("passeur-cli", &["core", "api", "live", "links", "service"]),
    ("passeur-standins", &[]),
    // Alone with its privilege: it knows no edition, no person and no database.
    ("passeur-sluice", &["protocols", "standins"]),
    ("passeur-bench-path", &["core", "gateway", "live"]),
    (
        "passeur-bench",
        &["bench-path", "core", "gss", "protocols", "live", "engine", "links", "service", "sluice", "store", "standins"],
    ),
    ("passeur-tests", &["core", "api", "gateway", "live", "links", "protocols", "service", "sluice", "store", "standins"]),
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
            // Words and answers are made by whoever asked.
            "passeur-engine" => &["axum", "maud", "hyper", "diesel", "diesel-async"],
            // Pages for people need no data path, and a gate of any kind may stand beside it.
            "passeur-signin" => &["hyper", "diesel", "diesel-async", "reqwest", "ldap3"],
            "passeur-management" => &["hyper", "diesel", "diesel-async", "ldap3"],
            "passeur-service" => &["diesel", "diesel-async", "reqwest", "ldap3", "maud", "webauthn-rs", "totp-rs", "utoipa"],
            "passeur-gate-network" | "passeur-gate-vpn" => &["axum", "maud", "diesel", "diesel-async", "reqwest", "ldap3"],
            // With a privilege, as little as can be.
            "passeur-sluice" => &["tokio", "axum", "hyper", "reqwest", "diesel"],
            // A gate that is not HTTP stands on it.
            "passeur-live" => &["axum", "diesel", "diesel-async", "http", "hyper", "reqwest", "ldap3", "lettre"],
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

/// Libraries that do what another one here does already, with what a first build pays for them; docs/performance.md has the figures.
const TWICE: [&str; 5] = ["openssl-sys", "native-tls", "mbedtls", "icu_normalizer", "time-tz"];

#[test]
fn no_library_does_what_another_does_already() {
    let lock = std::fs::read_to_string(root().join("Cargo.lock")).unwrap();
    let names: Vec<&str> = lock.lines().filter_map(|l| l.strip_prefix("name = \"")?.strip_suffix('"')).collect();
    assert!(names.contains(&"aws-lc-sys") && names.contains(&"idna_adapter"), "names are read from the lock file");
    for name in TWICE {
        // `cargo update -p idna_adapter --precise 1.1.0` puts names in other scripts back on the small tables.
        assert!(!names.contains(&name), "{name} is built beside what we have; find out what asks for it: cargo tree -i {name}");
    }
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

/// Types, functions and constants that others may use say what they are for. Fields and variants do where their name does not say it, which no
/// lint can know; arguments of the command line say it in their help.
#[test]
fn every_public_item_says_what_it_is_for() {
    let mut files = vec![];
    sources(&root().join("crates"), &mut files);
    let is_item = |line: &str| {
        let rest = line.trim_start().strip_prefix("pub ").unwrap_or_default();
        let rest = rest.trim_start_matches("async ").trim_start_matches("const fn ");
        ["fn ", "struct ", "enum ", "trait ", "const ", "static ", "type "].iter().any(|k| rest.starts_with(k))
            || line.contains("pub const fn ")
    };
    // A macro that makes items demands what they say of themselves.
    let of_macro = |line: &str| line.contains("enum $");
    let mut silent = vec![];
    for file in files.iter().filter(|f| f.components().any(|c| c.as_os_str() == "src")) {
        let place = file.strip_prefix(root().join("crates")).unwrap();
        if ["cli", "standins"].iter().any(|c| place.starts_with(c)) {
            continue;
        }
        let text = std::fs::read_to_string(file).unwrap();
        let lines: Vec<&str> = text.split("#[cfg(test)]\nmod").next().unwrap().lines().collect();
        for (i, line) in lines.iter().enumerate().filter(|(_, l)| is_item(l) && !of_macro(l)) {
            // Attributes stand between, some over several lines.
            let (mut at, mut open) = (i, 0);
            while at > 0 {
                let above = lines[at - 1].trim();
                open += above.matches([')', ']', '}']).count() as i32 - above.matches(['(', '[', '{']).count() as i32;
                if open <= 0 && !above.starts_with("#[") {
                    break;
                }
                at -= 1;
                open = open.max(0);
            }
            if at == 0 || !lines[at - 1].trim_start().starts_with("///") {
                silent.push(format!("{}:{}: {}", place.display(), i + 1, line.trim()));
            }
        }
    }
    assert!(silent.is_empty(), "{} items say nothing of themselves:\n{}", silent.len(), silent.join("\n"));
}

#[test]
fn one_place_grants() {
    let mut files = vec![];
    for room in ["engine", "signin", "management", "service", "gateway"] {
        sources(&root().join("crates").join(room).join("src"), &mut files);
    }
    let decides = |f: &&PathBuf| {
        let text = std::fs::read_to_string(f).unwrap();
        let imports = text.split("use passeur_core::decide::").skip(1).any(|u| {
            let names = u.split(';').next().unwrap();
            names.split(|c: char| !c.is_alphanumeric() && c != '_').any(|n| n == "fold" || n == "*")
        });
        imports || text.contains("decide::fold")
    };
    let deciding: Vec<_> = files.iter().filter(decides).map(|f| f.strip_prefix(root()).unwrap().display().to_string()).collect();
    assert_eq!(deciding, ["crates/engine/src/grants.rs"], "what is granted is decided, recorded and carried in one place");
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
    // Where steps are described, none is taken.
    let apart = "core/src/step";
    assert!(root().join("crates").join(apart).exists(), "{apart} is not there any more");
    let taking = |f: &&std::path::PathBuf| {
        let path = f.to_string_lossy();
        !path.contains(apart) && !f.components().any(|c| c.as_os_str() == "tests")
    };
    let code: String = files
        .iter()
        .filter(taking)
        .map(|f| std::fs::read_to_string(f).unwrap().split("#[cfg(test)]").next().unwrap().to_owned())
        .collect();
    let is_taken = |name: &str| {
        let named = format!("step!({name}");
        code.match_indices(&named).any(|(at, _)| !code[at + named.len()..].starts_with(|c: char| c.is_alphanumeric()))
    };
    assert!(!is_taken("NoSuchStep"));
    let never: Vec<String> = passeur_core::step::ALL.iter().map(|s| format!("{s:?}")).filter(|n| !is_taken(n)).collect();
    assert!(never.is_empty(), "never taken: {never:?}");
}

/// The columns that `schema.rs` names, by table: name, type as PostgreSQL calls it, whether it may be null.
fn schema_columns() -> std::collections::BTreeMap<(String, String), (String, bool)> {
    let text = std::fs::read_to_string(root().join("crates/store/src/schema.rs")).unwrap();
    let mut out = std::collections::BTreeMap::new();
    for table in text.split("diesel::table! {").skip(1) {
        let (name, rest) = table.split_once('(').unwrap();
        let columns = rest.split_once('{').unwrap().1.split_once('}').unwrap().0;
        for part in columns.split(',').filter(|p| p.contains("->")) {
            let (column, kind) = part.split_once("->").unwrap();
            let kind = kind.trim();
            let (kind, null) = match kind.strip_prefix("Nullable<") {
                Some(k) => (k.strip_suffix('>').unwrap(), true),
                None => (kind, false),
            };
            let kind = match kind {
                "Text" => "text",
                "Integer" => "int4",
                "SmallInt" => "int2",
                "BigInt" => "int8",
                "Bool" => "bool",
                "Binary" => "bytea",
                "Jsonb" => "jsonb",
                "Timestamptz" => "timestamptz",
                "Uuid" => "uuid",
                "Date" => "date",
                "Array<Text>" => "_text",
                other => panic!("{other}"),
            };
            out.insert((name.trim().to_owned(), column.trim().to_owned()), (kind.to_owned(), null));
        }
    }
    out
}

#[tokio::test]
async fn the_schema_in_code_is_that_of_a_migrated_database() {
    let database = crate::support::Database::new().await;
    let rows = database
        .look()
        .await
        .query(
            "SELECT c.relname::text, a.attname::text, t.typname::text, NOT a.attnotnull FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid \
             JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_type t ON t.oid = a.atttypid \
             WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p') AND NOT c.relispartition AND a.attnum > 0 AND NOT a.attisdropped \
             AND c.relname <> '__diesel_schema_migrations'",
            &[],
        )
        .await
        .unwrap();
    let there: std::collections::BTreeMap<(String, String), (String, bool)> =
        rows.iter().map(|r| ((r.get(0), r.get(1)), (r.get(2), r.get(3)))).collect();
    let code = schema_columns();
    assert!(code.len() > 150, "{}", code.len());
    let wrong: Vec<_> = code.iter().filter(|(k, v)| there.get(*k) != Some(*v)).map(|(k, v)| (k, v, there.get(k))).collect();
    assert!(wrong.is_empty(), "schema.rs and the database differ: {wrong:#?}");
    let tables: std::collections::BTreeSet<&str> = code.keys().map(|(t, _)| t.as_str()).collect();
    let unknown: Vec<_> = there.keys().filter(|k| tables.contains(k.0.as_str()) && !code.contains_key(*k)).collect();
    assert!(unknown.is_empty(), "columns that schema.rs does not know: {unknown:?}");
}
