//! The JSON Schema and the reference of the site file are those of the reader, and hold for real files.

use std::collections::BTreeSet;

use passeur_core::document::schema::{WHOLE, described, keys, reference, schema};
use passeur_core::document::{Severity, compile};
use serde_json::Value;
use toml::Table;

use crate::harbour::SITE;

#[test]
fn the_whole_file_is_sound_and_every_key_is_typed_and_described_and_no_other() {
    let (site, findings) = compile(WHOLE);
    assert!(site.is_some() && findings.is_empty(), "{findings:#?}");
    let all = keys();
    for k in &all {
        assert!(k.is_typed(), "{} {}: no test file holds it in a way that shows its type", k.kind, k.key);
        assert!(k.words().is_some_and(|w| w.ends_with('.')), "{} {}: nobody says what it is for", k.kind, k.key);
    }
    let read: BTreeSet<(&str, &str)> = all.iter().map(|k| (k.kind.as_str(), k.key.as_str())).collect();
    let dead: Vec<_> = described().into_iter().filter(|k| !read.contains(k)).collect();
    assert!(dead.is_empty(), "described, and not read: {dead:?}");
    assert!(all.len() > 170);
}

fn json(text: &str) -> Value {
    serde_json::to_value(text.parse::<Table>().unwrap()).unwrap()
}

#[test]
fn sound_files_fit_the_schema_and_mistakes_do_not() {
    let schema = jsonschema::validator_for(&schema()).unwrap();
    for text in [SITE, WHOLE] {
        let errors: Vec<String> = schema.iter_errors(&json(text)).map(|e| format!("{} {e}", e.instance_path())).collect();
        assert!(errors.is_empty(), "{errors:#?}");
    }
    for (old, new) in [
        ("format = 1", "format = 2"),
        ("name = \"Harbour authority of Havrelune\"\n", ""),
        ("nested = true", "nested = \"yes\""),
        ("idle = \"1h\"", "idle = 3600"),
        ("idle = \"1h\"", "idle = \"soon\""),
        ("kind = \"oidc\"", "kind = \"other\""),
        ("cache = \"30s\"", "cash = \"30s\""),
        ("when = { group = \"berth-access\" }", "when = { grup = \"berth-access\" }"),
        ("when = { group = \"berth-access\" }", "when = { all = [{ group = 3 }] }"),
        ("scopes = [\"openid\", \"profile\", \"email\"]", "scopes = \"openid\""),
        ("[tables.desks]\npilotage = \"Pilots' watch\"", "[tables.desks]\npilotage = 3"),
    ] {
        assert!(SITE.contains(old), "{old}");
        let text = SITE.replacen(old, new, 1);
        assert!(!schema.is_valid(&json(&text)), "{new}");
        assert!(compile(&text).0.is_none(), "the checker says so as well: {new}");
    }
}

/// The first table of a kind in a document.
fn table_of<'a>(document: &'a mut Table, kind: &str) -> &'a mut Table {
    let path = match kind {
        "rule" => "gate[].rule[]",
        "mapping" => "mapping[]",
        "condition.hours" | "condition.dates" => "gate[].rule[].when",
        other => other,
    };
    let mut at = document;
    let mut parts = path.split('.').filter(|p| !p.is_empty()).peekable();
    while let Some(part) = parts.next() {
        at = match part.strip_suffix("[]") {
            Some(list) => {
                // Not every member of a list has what stands in it.
                let next = parts.peek().map(|n| n.trim_end_matches("[]")).filter(|n| *n != "*");
                let mut all = at[list].as_array_mut().unwrap().iter_mut().filter_map(toml::Value::as_table_mut);
                all.find(|t| next.is_none_or(|n| t.contains_key(n))).unwrap()
            }
            None if part == "*" => at.iter_mut().find_map(|(_, v)| v.as_table_mut()).unwrap(),
            None => at[part].as_table_mut().unwrap(),
        };
    }
    if let Some(key) = kind.strip_prefix("condition.") {
        let all = at["any"].as_array_mut().unwrap();
        at = all.iter_mut().find_map(|c| c.as_table_mut()?.get_mut(key)?.as_table_mut()).unwrap();
    }
    at
}

#[test]
fn what_must_be_there_must_be_there() {
    for k in keys().into_iter().filter(|k| k.is_required()) {
        let mut document: Table = WHOLE.parse().unwrap();
        assert!(table_of(&mut document, &k.kind).remove(&k.key).is_some(), "{} {}", k.kind, k.key);
        let findings = compile(&document.to_string()).1;
        assert!(findings.iter().any(|f| f.severity == Severity::Error), "{} {} is not missed", k.kind, k.key);
    }
}

#[test]
fn the_committed_schema_and_reference_are_those_of_the_reader() {
    let docs = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/");
    let whole = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
    for (name, wanted) in [("site-file.schema.json", whole), ("site-file-reference.md", reference())] {
        let path = format!("{docs}{name}");
        if std::env::var_os("UPDATE_DOCS").is_some() {
            std::fs::write(&path, &wanted).unwrap();
        }
        let committed = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(committed == wanted, "docs/{name} is old; write it anew: UPDATE_DOCS=1 cargo test -p passeur-core --test core");
    }
}
