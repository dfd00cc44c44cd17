//! How long documents take that engineers have checked and compared, at the sizes and shapes that cost most.

use std::fmt::Write;
use std::time::Instant;

use passeur_core::compare::{Side, compare, difference};
use passeur_core::document::compile;

/// What a document of so many parts may take, in seconds.
const AIM: f64 = 1.0;

fn head() -> String {
    "format = 1\n[site]\nname = \"bench\"\naddress = \"http://bench.localhost:80\"\n[[provider]]\nname = \"p\"\nissuer = \"http://idp.localhost:80\"\n\
     client = \"c\"\n[provider.groups]\nclaim = \"groups\"\n"
        .to_owned()
}

fn gate(n: usize) -> String {
    format!(
        "[[gate]]\nname = \"g{n}\"\naddress = \"http://g{n}.bench.localhost:80\"\nupstream = \"http://127.0.0.1:9\"\nprovider = \"p\"\ngroups-from = \"provider\"\n"
    )
}

fn rule(place: &str, n: usize) -> String {
    format!("[[{place}rule]]\nname = \"r{n}\"\nwhen = {{ group = \"group-{n}\" }}\nenter = true\n")
}

/// Documents by what there is much of.
fn shapes() -> Vec<(&'static str, String)> {
    let repeat = |n: usize, one: &dyn Fn(usize) -> String| (0..n).map(one).collect::<String>();
    let one_gate = head() + &gate(1);
    let section = |n: usize| format!("[[gate.section]]\npath = \"/s{n}\"\nwhen = {{ group = \"group-{n}\" }}\n");
    vec![
        ("10,000 rules of one gate", one_gate.clone() + &repeat(10_000, &|n| rule("gate.", n))),
        (
            "10,000 rules of the whole site, before one gate",
            head() + &repeat(10_000, &|n| rule("", n)) + &gate(1) + &rule("gate.", 0).replace("r0", "own"),
        ),
        ("200 rules of the whole site, before 1,000 gates", head() + &repeat(200, &|n| rule("", n)) + &repeat(1_000, &gate)),
        ("10,000 sections of one gate, which are too many", one_gate.clone() + &rule("gate.", 0) + &repeat(10_000, &section)),
        ("10,000 rules with a mistake each", one_gate + &repeat(10_000, &|n| rule("gate.", n).replace("group =", "gruppe ="))),
    ]
}

/// The lines of the report.
pub fn measure() -> String {
    let mut out = String::from(
        "\n| a document with | size | checked | compared with itself | with nothing in common |\n|---|---|---|---|---|\n",
    );
    let empty = head();
    let (nothing, _) = compile(&empty);
    let nothing = nothing.expect("the empty site");
    for (what, text) in shapes() {
        let began = Instant::now();
        let (site, _) = compile(&text);
        let checked = began.elapsed().as_secs_f64();
        assert!(checked < AIM, "{what}: {checked} s");
        let compared = site.map(|site| {
            let side = || Side { text: &text, site: &site };
            let began = Instant::now();
            compare(side(), side());
            let same = began.elapsed().as_secs_f64();
            let began = Instant::now();
            compare(Side { text: &empty, site: &nothing }, side());
            difference(&empty, &text);
            (same, began.elapsed().as_secs_f64())
        });
        let told = compared.map_or(("—".to_owned(), "—".to_owned()), |(a, b)| (format!("{a:.2} s"), format!("{b:.2} s")));
        let _ = writeln!(out, "| {what} | {} KiB | {checked:.2} s | {} | {} |", text.len() / 1024, told.0, told.1);
    }
    out
}
