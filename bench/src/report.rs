//! Everything measured, and the tables in `docs/performance.md`.

use std::path::PathBuf;

use crate::{harbour, kerberos, saml, strangers};

pub fn all(rounds: usize, seconds: u64, into: Option<PathBuf>) {
    let mut text = passeur_bench_path::measure(rounds, seconds);
    text.push_str(&saml::measure());
    text.push('\n');
    text.push_str(&harbour::measure(seconds));
    text.push_str(&strangers::measure(seconds));
    text.push_str(&kerberos::measure(seconds));
    println!("\n{text}");
    if let Some(path) = into {
        let doc = std::fs::read_to_string(&path).expect("the document");
        let (begin, end) = ("<!-- measured -->\n", "<!-- end of measured -->");
        let (head, rest) = doc.split_once(begin).expect("a mark");
        let (_, tail) = rest.split_once(end).expect("a mark");
        std::fs::write(&path, format!("{head}{begin}{text}{end}{tail}")).expect("the document");
    }
}
