//! Alternating rounds, ratios of pairs, and the tables in `docs/performance.md`.

use std::fmt::Write;
use std::path::PathBuf;

use crate::gate::token;
use crate::load::{self, Ask, Measured};
use crate::process::Running;
use crate::{decide, harbour, kerberos, memory, tls};

struct Case {
    tls: bool,
    path: &'static str,
    connections: usize,
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied().unwrap_or(0.0)
}

impl Case {
    /// As the table names it.
    fn name(&self) -> String {
        let scheme = if self.tls { "HTTPS" } else { "HTTP" };
        let body = if self.path == "/64k" { "64 KiB" } else { "1 KiB" };
        format!("{scheme} | {body} | {}", self.connections)
    }
}

/// One case again and again, while something is being improved.
pub fn one(only: &str, rounds: usize, seconds: u64) {
    let set = Set::start();
    for case in cases().into_iter().filter(|c| c.name() == only) {
        print!("{}", measure(&case, rounds, seconds, &set));
    }
}

/// The processes under measurement.
struct Set {
    upstream: Running,
    bare: Running,
    gate: Running,
    folder: PathBuf,
}

impl Set {
    fn start() -> Set {
        let folder = std::env::temp_dir().join(format!("passeur-bench-{}", std::process::id()));
        std::fs::create_dir_all(&folder).expect("a folder");
        tls::write(&folder);
        let names = folder.to_string_lossy().into_owned();
        let upstream = Running::start(&["upstream"]);
        let at = upstream.clear.to_string();
        let bare = Running::start(&["bare", &at, &names]);
        let gate = Running::start(&["gate", &at, &names]);
        Set { upstream, bare, gate, folder }
    }
}

impl Drop for Set {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

pub fn all(rounds: usize, seconds: u64, into: Option<PathBuf>) {
    let set = Set::start();
    let idle = set.gate.memory("VmRSS");
    let mut table = String::from(
        "| | body | connections | upstream alone | bare pass-through | Passeur | ratio | p99 ratio | CPU a request, ratio |\n|---|---|---|---|---|---|---|---|---|\n",
    );
    for case in cases() {
        let line = measure(&case, rounds, seconds, &set);
        print!("{line}");
        table.push_str(&line);
    }
    let after = set.gate.memory("VmRSS");
    let mut text = format!(
        "{table}\nMemory of Passeur: {idle} KiB with the edition and its sessions before the load, {after} KiB after it, {} KiB at its peak; of the bare pass-through {} KiB at its peak.\n",
        set.gate.memory("VmHWM"),
        set.bare.memory("VmHWM")
    );
    text.push_str("\n| rules | of them concern the person | median | p99 |\n|---|---|---|---|\n");
    for (rules, concern) in [(10, 10), (100, 20), (1_000, 20), (10_000, 20)] {
        let (m, p) = decide::measure(rules, concern);
        let _ = writeln!(text, "| {rules} | {concern} | {m:.1} µs | {p:.1} µs |");
    }
    drop(set);
    text.push_str(&crate::saml::measure());
    text.push_str(&crate::documents::measure());
    text.push_str(&memory::measure());
    text.push('\n');
    text.push_str(&harbour::measure(seconds));
    text.push_str(&crate::strangers::measure(seconds));
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

fn cases() -> Vec<Case> {
    let mut out = vec![];
    for tls in [false, true] {
        for path in ["/1k", "/64k"] {
            for connections in [1, 16, 64] {
                out.push(Case { tls, path, connections });
            }
        }
    }
    out
}

struct Round {
    measured: Measured,
    /// Seconds of CPU a request.
    cpu: f64,
}

fn round(process: &Running, ask: &Ask, connections: usize, seconds: u64) -> Round {
    let before = process.cpu();
    let measured = load::run(ask, connections, seconds);
    // The warming before the measure is a tenth of it at most and the same for all.
    Round { cpu: (process.cpu() - before) / measured.requests.max(1) as f64, measured }
}

fn measure(case: &Case, rounds: usize, seconds: u64, set: &Set) -> String {
    let Set { upstream, bare, gate, folder } = set;
    let connector = case.tls.then(|| tls::connector(folder));
    let pick = |r: &Running| if case.tls { r.secure } else { r.clear };
    let host = format!("g0.bench.localhost:{}", gate.clear.port());
    let cookies: Vec<String> = (0..100).map(|i| format!("passeur-gate={}", token(i * crate::gate::GATES).reveal())).collect();
    let plain = Ask { at: pick(bare), tls: connector.clone(), host: host.clone(), path: case.path, cookies: vec![] };
    let with_identity = Ask { at: pick(gate), cookies, ..plain.clone() };
    let direct = Ask { at: upstream.clear, tls: None, ..plain.clone() };
    let alone = load::run(&direct, case.connections, seconds).per_second;
    let (mut speed, mut tail, mut cpu) = (vec![], vec![], vec![]);
    let (mut a, mut b) = (vec![], vec![]);
    for n in 0..rounds {
        // Which comes first changes, so that neither has the quieter moment.
        let (x, y) = if n % 2 == 0 {
            let x = round(bare, &plain, case.connections, seconds);
            (x, round(gate, &with_identity, case.connections, seconds))
        } else {
            let y = round(gate, &with_identity, case.connections, seconds);
            (round(bare, &plain, case.connections, seconds), y)
        };
        speed.push(y.measured.per_second / x.measured.per_second.max(1.0));
        tail.push(y.measured.p99_us / x.measured.p99_us.max(1.0));
        cpu.push(y.cpu / x.cpu.max(1e-9));
        a.push(x.measured);
        b.push(y.measured);
    }
    let show = |all: &[Measured]| {
        let m = |f: &dyn Fn(&Measured) -> f64| median(all.iter().map(f).collect());
        format!("{:.0}/s, {:.0} µs, p99 {:.0} µs", m(&|m| m.per_second), m(&|m| m.median_us), m(&|m| m.p99_us))
    };
    format!(
        "| {} | {alone:.0}/s | {} | {} | **{:.2}** | {:.2} | {:.2} |\n",
        case.name(),
        show(&a),
        show(&b),
        median(speed),
        median(tail),
        median(cpu),
    )
}
