//! How long one decision takes, by the number of rules.

use std::fmt::Write;
use std::time::Instant;

use passeur_core::circumstances::Circumstances;
use passeur_core::decide::{Decision, fold};
use passeur_core::site::Site;
use passeur_core::step::Silent;

use crate::gate::{compiled, evidence, site};

/// Median and 99th percentile in microseconds for a gate with so many rules, of which `concern` name a group the person
/// is in.
fn measure(rules: usize, concern: usize) -> (f64, f64) {
    let mut text = site(80, ([127, 0, 0, 1], 80).into(), 1, 1);
    for r in 1..rules {
        let group = if r < concern { format!("team-{}", r % 20) } else { format!("other-{r}") };
        let _ = writeln!(text, "[[gate.rule]]\nname = \"x{r}\"\nwhen = {{ group = \"{group}\" }}\nenter = true");
    }
    let site: Site = compiled(&text);
    let at = Circumstances::at(chrono::Utc::now());
    let (gate, who) = (&site.gates[0], evidence(1));
    let mut all: Vec<u128> = (0..2_000)
        .map(|_| {
            let began = Instant::now();
            let decision = fold(&site, gate, &who, &at, &mut Silent);
            assert!(matches!(decision, Decision::Admitted(_)), "the person is admitted");
            began.elapsed().as_nanos()
        })
        .collect();
    all.sort_unstable();
    let at = |p: f64| all[(all.len() as f64 * p) as usize] as f64 / 1000.0;
    (at(0.5), at(0.99))
}

/// The lines of the report.
pub fn table() -> String {
    let mut text = String::from("\n| rules | of them concern the person | median | p99 |\n|---|---|---|---|\n");
    for (rules, concern) in [(10, 10), (100, 20), (1_000, 20), (10_000, 20)] {
        let (m, p) = measure(rules, concern);
        let _ = writeln!(text, "| {rules} | {concern} | {m:.1} µs | {p:.1} µs |");
    }
    text
}
