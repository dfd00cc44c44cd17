//! The reference of steps in the docs is written from the catalogue.

use passeur_core::step::{ALL, Bearing, Lang};

/// `docs/steps.md`, whole.
fn reference() -> String {
    let mut out = String::from(
        "# Steps\n\nEvery step that a crossing can hold, by its stable code, with its sentence in English and French and what to do\n\
         about it. Names in braces stand for what was seen. This page is written from the catalogue in\n\
         `crates/core/src/step/catalogue/`; a test compares them.\n",
    );
    let mut stage = None;
    let mut all = ALL.to_vec();
    all.sort_by_key(|c| c.spec().stage);
    for code in all {
        let s = code.spec();
        if stage != Some(s.stage) {
            stage = Some(s.stage);
            out.push_str(&format!("\n## {:?}\n\n", s.stage));
        }
        let bearing = match s.bearing {
            Bearing::Fact => "fact",
            Bearing::Pass => "pass",
            Bearing::Notice => "notice",
            Bearing::Stop => "**stop**",
        };
        out.push_str(&format!("* `{}` ({bearing})\n  {}\n  *{}*\n", s.code, s.words(Lang::En), s.words(Lang::Fr)));
        if let Some(remedy) = s.remedy(Lang::En) {
            out.push_str(&format!("  → {remedy}\n"));
        }
    }
    out
}

#[test]
fn the_reference_in_the_docs_is_that_of_the_catalogue() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/steps.md");
    let wanted = reference();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &wanted).unwrap();
    }
    let committed = std::fs::read_to_string(path).unwrap_or_default();
    assert!(committed == wanted, "docs/steps.md is old; write it anew: UPDATE_DOCS=1 cargo test -p passeur-core --test core");
}
