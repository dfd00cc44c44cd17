//! Circles of files inside a crate, by what their `use` lines and paths name. A handful of files that need each other for one reason is a
//! circle with a name here; anything larger, or any other, is one that has grown.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// The most files that may need each other without a word here.
const SMALL: usize = 4;

/// Larger circles: the crate, a file of it, the most files, and the one reason.
const KNOWN: &[(&str, &str, usize, &str)] = &[
    ("core", "step", 7, "a step, its catalogue, and the words of its parameters"),
    ("gateway", "conn", 12, "the data path: a connection, what is admitted on it, its upstream and the streams between them"),
    ("protocols", "oidc", 8, "the checks of tokens that all kinds of token share"),
    ("api", "", 14, "types of one document"),
    ("signin", "pages", 10, "pages and the frame that all of them stand in"),
    ("standins", "provider", 6, "the demo's provider"),
];

/// A module's path from the crate's root, and its file.
fn modules(src: &Path) -> BTreeMap<String, PathBuf> {
    fn walk(folder: &Path, src: &Path, out: &mut BTreeMap<String, PathBuf>) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                walk(&path, src, out);
            } else if path.extension().is_some_and(|e| e == "rs") {
                let name = path.strip_prefix(src).unwrap().with_extension("").to_string_lossy().replace('/', "::");
                let name = name.strip_suffix("::mod").unwrap_or(&name);
                out.insert(if matches!(name, "lib" | "main" | "mod") { String::new() } else { name.to_owned() }, path);
            }
        }
    }
    let mut out = BTreeMap::new();
    walk(src, src, &mut out);
    out
}

/// Every path that a `use` tree names.
fn expand(prefix: &str, tree: &str, out: &mut Vec<String>) {
    let Some(open) = tree.find('{') else {
        let path = tree.split(" as ").next().unwrap_or_default().trim();
        out.push(format!("{prefix}{path}").trim_end_matches("::self").to_owned());
        return;
    };
    let (before, inner) = (tree[..open].trim(), &tree[open + 1..tree.rfind('}').unwrap_or(tree.len())]);
    let (mut depth, mut from) = (0, 0);
    for (i, c) in inner.char_indices().chain([(inner.len(), ',')]) {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                if !inner[from..i].trim().is_empty() {
                    expand(&format!("{prefix}{before}"), inner[from..i].trim(), out);
                }
                from = i + 1;
            }
            _ => {}
        }
    }
}

/// What a file names of its own crate, as modules.
fn needs(me: &str, text: &str, all: &BTreeMap<String, PathBuf>) -> BTreeSet<String> {
    // Tests of a file may be shared with those of another, and are no part of either.
    let code: String = text
        .replace("#[cfg(test)]\npub(crate) mod", "#[cfg(test)]\nmod")
        .split("#[cfg(test)]\nmod")
        .next()
        .unwrap()
        .lines()
        .map(|l| l.split("//").next().unwrap())
        .collect::<Vec<_>>()
        .join("\n");
    let mut paths = vec![];
    // Only a line can begin with `use`; the word stands in sentences too.
    for keyword in ["\nuse ", "\npub use ", "\npub(crate) use ", "\npub(super) use ", "\n    use "] {
        for part in format!("\n{code}").split(keyword).skip(1) {
            expand("", part.split(';').next().unwrap_or_default(), &mut paths);
        }
    }
    for root in ["crate::", "super::", "self::"] {
        let named = |(at, _): (usize, &str)| {
            code[at..].split(|c: char| !c.is_alphanumeric() && c != '_' && c != ':').next().unwrap_or_default().to_owned()
        };
        // A second `super` belongs to the path of the first.
        paths.extend(code.match_indices(root).filter(|(at, _)| !code[..*at].ends_with("::")).map(named));
    }
    let mine: Vec<&str> = me.split("::").filter(|p| !p.is_empty()).collect();
    let mut out = BTreeSet::new();
    for path in paths {
        let mut parts: Vec<&str> = path.split("::").filter(|p| !p.is_empty()).collect();
        let mut at = match parts.first() {
            Some(&"crate") => vec![],
            Some(&"super") => mine[..mine.len().saturating_sub(1)].to_vec(),
            Some(&"self") => mine.clone(),
            Some(child) if all.contains_key(&[&mine[..], &[*child]].concat().join("::")) => {
                parts.insert(0, "self");
                mine.clone()
            }
            _ => continue,
        };
        for part in &parts[1..] {
            match *part {
                "super" => drop(at.pop()),
                part => at.push(part),
            }
        }
        while !at.is_empty() && !all.contains_key(&at.join("::")) {
            at.pop();
        }
        let found = at.join("::");
        if found != me && all.contains_key(&found) {
            out.insert(found);
        }
    }
    out
}

/// Files that need each other, by walking from each to all it needs in the end.
fn circles(graph: &BTreeMap<String, BTreeSet<String>>) -> Vec<BTreeSet<String>> {
    let reach = |from: &String| {
        let (mut seen, mut open) = (BTreeSet::new(), vec![from.clone()]);
        while let Some(next) = open.pop() {
            for to in graph.get(&next).into_iter().flatten() {
                if seen.insert(to.clone()) {
                    open.push(to.clone());
                }
            }
        }
        seen
    };
    let reached: BTreeMap<&String, BTreeSet<String>> = graph.keys().map(|k| (k, reach(k))).collect();
    let mut out: Vec<BTreeSet<String>> = vec![];
    for (one, theirs) in &reached {
        let circle: BTreeSet<String> =
            theirs.iter().filter(|t| reached.get(t).is_some_and(|back| back.contains(*one))).cloned().collect();
        if circle.len() > 1 && !out.contains(&circle) {
            out.push(circle);
        }
    }
    out
}

#[test]
fn circles_of_files_are_small_or_have_one_reason() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join("crates");
    let mut grown = vec![];
    let mut left: Vec<_> = KNOWN.iter().collect();
    for entry in std::fs::read_dir(&crates).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let all = modules(&crates.join(&name).join("src"));
        let graph: BTreeMap<_, _> =
            all.iter().map(|(m, p)| (m.clone(), needs(m, &std::fs::read_to_string(p).unwrap(), &all))).collect();
        for circle in circles(&graph) {
            let known = KNOWN.iter().find(|(c, file, ..)| *c == name && circle.contains(*file));
            let most = known.map_or(SMALL, |k| k.2);
            if let Some(known) = known {
                left.retain(|k| *k != known);
                if circle.len() < most {
                    grown.push(format!("{name}: a circle that was {most} files is {} now: say so in KNOWN", circle.len()));
                }
            }
            if circle.len() > most {
                grown.push(format!("{name}: {} files need each other, at most {most} may: {circle:?}", circle.len()));
            }
        }
    }
    grown
        .extend(left.iter().map(|(name, file, ..)| format!("{name}: no circle holds \"{file}\" any more: take it out of KNOWN")));
    assert!(grown.is_empty(), "{}", grown.join("\n"));
}

#[test]
fn a_circle_is_seen() {
    let all: BTreeMap<String, PathBuf> = ["", "a", "a::b", "c"].map(|m| (m.to_owned(), PathBuf::new())).into();
    let of = |me: &str, text: &str| needs(me, text, &all).into_iter().collect::<Vec<_>>();
    assert_eq!(of("a::b", "use super::super::c::{X, y::Z};\nuse crate::a;"), ["a", "c"]);
    assert_eq!(of("a", "mod b;\npub use b::Y;\n// use crate::c;\n"), ["a::b"]);
    assert_eq!(of("c", "fn f() { crate::a::b::g() }\n#[cfg(test)]\nmod tests { use crate::a::x; }"), ["a::b"]);
    let graph = [("a", "a::b"), ("a::b", "c"), ("c", "a")].map(|(x, y)| (x.to_owned(), [y.to_owned()].into())).into();
    assert_eq!(circles(&graph).len(), 1);
    assert_eq!(circles(&graph)[0].len(), 3);
}
