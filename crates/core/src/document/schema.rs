//! The JSON Schema and the reference of the site file, made by the code that reads it.
//!
//! [`super::read::Fields`] notes what it is asked of every kind of table while `whole.toml`, a site file that holds every key,
//! is read: keys, types, defaults and ranges therefore come from the reader itself. [`super::keys`] has the words.

use super::keys::words;
use std::collections::BTreeSet;

use super::fields::{ANY, Report};
use super::trace::{Shape, Trace};
use serde_json::{Map, Value, json};

/// A site file that holds every key.
pub const WHOLE: &str = include_str!("whole.toml");

/// One key of one kind of table.
#[derive(Clone, Debug)]
pub struct Key {
    /// The kind of table, such as `provider[]`; empty for the top of the file.
    pub kind: String,
    pub key: String,
    shapes: BTreeSet<Shape>,
}

impl Key {
    /// What it is for; none where nobody wrote it down.
    pub fn words(&self) -> Option<&'static str> {
        words(&self.kind, &self.key)
    }

    /// Whether it must be there.
    pub fn is_required(&self) -> bool {
        super::keys::always(&self.kind, &self.key)
    }

    /// Whether the reader says what it may hold.
    pub fn is_typed(&self) -> bool {
        !self.shapes.is_empty()
    }
}

fn traced() -> Trace {
    let report = Report::traced(WHOLE);
    super::compile::read(&report, WHOLE);
    report.into_trace()
}

/// Every key there is.
pub fn keys() -> Vec<Key> {
    let trace = traced();
    let of = |(kind, keys): (&String, &Vec<(&'static str, BTreeSet<Shape>)>)| {
        let kind = kind.clone();
        keys.iter()
            .map(move |(key, shapes)| Key { kind: kind.clone(), key: (*key).to_owned(), shapes: shapes.clone() })
            .collect::<Vec<_>>()
    };
    trace.kinds.iter().flat_map(of).collect()
}

/// Kinds and keys that are described.
pub fn described() -> Vec<(&'static str, &'static str)> {
    super::keys::all().collect()
}

/// The name of a kind among the schema's definitions.
fn definition(kind: &str) -> String {
    kind.replace("[]", "").replace('.', "-").replace(ANY, "any")
}

/// The JSON Schema (draft 2020-12) of the site file, for editors: which keys there are, what each holds, what it is for. What
/// must hold between keys, the checker says.
pub fn schema() -> Value {
    let trace = traced();
    let mut definitions = Map::new();
    for kind in trace.kinds.keys().filter(|k| !k.is_empty()) {
        definitions.insert(definition(kind), object(&trace, kind));
    }
    let mut root = object(&trace, "");
    if let Some(o) = root.as_object_mut() {
        o.insert("$schema".into(), json!("https://json-schema.org/draft/2020-12/schema"));
        o.insert("title".into(), json!("Passeur site file, format 1"));
        o.insert("$defs".into(), definitions.into());
    }
    // The same text whatever the program was built with.
    crate::evidence::sorted(root)
}

fn object(trace: &Trace, kind: &str) -> Value {
    let mut properties = Map::new();
    let mut required = vec![];
    let mut free = json!(false);
    for (key, shapes) in trace.kinds.get(kind).into_iter().flatten() {
        let mut value = typed(trace, shapes);
        if *key == ANY {
            free = value;
            continue;
        }
        if let (Some(o), Some(words)) = (value.as_object_mut(), words(kind, key)) {
            o.insert("description".into(), json!(words));
        }
        // That one of several keys must be there is for the checker to say.
        if super::keys::always(kind, key) {
            required.push(*key);
        }
        properties.insert((*key).to_owned(), value);
    }
    let mut out = json!({"type": "object", "properties": properties, "additionalProperties": free});
    if !required.is_empty() {
        out["required"] = json!(required);
    }
    out
}

/// Shapes without the text that others were read through.
fn plain(shapes: &BTreeSet<Shape>) -> impl Iterator<Item = &Shape> {
    let through = |s: &Shape| matches!(s, Shape::Needed | Shape::Duration { .. } | Shape::Choice { .. });
    let by_text = shapes.iter().any(through);
    shapes.iter().filter(move |s| !(by_text && **s == Shape::Text))
}

fn typed(trace: &Trace, shapes: &BTreeSet<Shape>) -> Value {
    let all: Vec<Value> = plain(shapes).map(|s| one(trace, s)).collect();
    match all.as_slice() {
        [one] => one.clone(),
        several => json!({"anyOf": several}),
    }
}

fn one(trace: &Trace, shape: &Shape) -> Value {
    match shape {
        Shape::Text => json!({"type": "string"}),
        Shape::Needed => json!({"type": "string", "minLength": 1}),
        Shape::Flag { default } => json!({"type": "boolean", "default": default}),
        Shape::Number { default, min, max } => {
            let mut out = json!({"type": "integer", "minimum": min, "maximum": max});
            if let Some(default) = default {
                out["default"] = json!(default);
            }
            out
        }
        Shape::AnyNumber => json!({"type": "number"}),
        Shape::Duration { default, .. } => {
            let mut out = json!({"type": "string", "pattern": "^ *[0-9]+ *[smhd] *$"});
            if let Some(default) = default {
                out["default"] = json!(default);
            }
            out
        }
        Shape::Texts => json!({"type": "array", "items": {"type": "string"}}),
        Shape::Choice { words, default } => {
            let mut out = json!({"enum": words});
            if let Some(default) = default {
                out["default"] = json!(default);
            }
            out
        }
        Shape::Table(kind) => json!({"$ref": format!("#/$defs/{}", definition(trace.kind(kind)))}),
        Shape::Tables(kind) => {
            json!({"type": "array", "items": {"$ref": format!("#/$defs/{}", definition(trace.kind(kind)))}})
        }
    }
}

/// The reference of the site file, in Markdown.
pub fn reference() -> String {
    let trace = traced();
    let mut out = String::from(
        "# Reference of the site file\n\nEvery key, made by the code that reads the file; [site-file.md](site-file.md) tells how they go \
         together. `passeur site schema` prints the same as JSON Schema, for editors that complete and check TOML.\n",
    );
    let mut kinds: Vec<&String> = trace.kinds.keys().collect();
    kinds.sort_by_key(|k| super::keys::place(k));
    for kind in kinds {
        let title = match kind.as_str() {
            "" => "The top of the file".to_owned(),
            "condition" => "A condition (`when`, `step-up`)".to_owned(),
            "rule" => "A rule: `[[rule]]`, `[[gate.rule]]`, `[[engineers.rule]]`".to_owned(),
            "mapping" => "A mapping: `[[mapping]]`, `[[gate.mapping]]`".to_owned(),
            "step" => "A step of a mapping (`by`)".to_owned(),
            k if k.ends_with("[]") => format!("`[[{}]]`", k.replace("[]", "")),
            k => format!("`[{}]`", k.replace("[]", "")),
        };
        out.push_str(&format!("\n## {title}\n\n| key | holds | unless set | what |\n|---|---|---|---|\n"));
        for (key, shapes) in trace.kinds.get(kind).into_iter().flatten() {
            let name = if *key == ANY { "any name".to_owned() } else { format!("`{key}`") };
            let (holds, unless) = told(&trace, shapes, super::keys::always(kind, key));
            let words = words(kind, key).unwrap_or("");
            out.push_str(&format!("| {name} | {holds} | {unless} | {words} |\n"));
        }
    }
    out
}

/// What it holds, and what counts where it is not written.
fn told(trace: &Trace, shapes: &BTreeSet<Shape>, always: bool) -> (String, String) {
    let mut unless = String::new();
    let mut holds: Vec<String> = vec![];
    for s in plain(shapes) {
        holds.push(match s {
            Shape::Text | Shape::Needed => "text".into(),
            Shape::Flag { default } => {
                unless = default.to_string();
                "true or false".into()
            }
            Shape::Number { default, min, max } => {
                unless = default.map(|d| d.to_string()).unwrap_or_default();
                format!("{min} to {max}")
            }
            Shape::AnyNumber => "a number".into(),
            Shape::Duration { default, min, max } => {
                unless = default.clone().unwrap_or_default();
                format!("{min} to {max}")
            }
            Shape::Texts => "a list of texts".into(),
            Shape::Choice { words, default } => {
                unless = default.as_ref().map(|d| format!("`{d}`")).unwrap_or_default();
                words.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ")
            }
            Shape::Table(kind) => match trace.kind(kind) {
                "condition" => "a condition".into(),
                _ => "a table".into(),
            },
            Shape::Tables(kind) => match trace.kind(kind) {
                "condition" => "a list of conditions".into(),
                "step" => "a list of steps".into(),
                _ => "tables".into(),
            },
        });
    }
    holds.dedup();
    if always {
        unless = "must be there".into();
    }
    (holds.join(" or "), unless)
}
