//! Alternating rounds and the ratios of pairs.

use std::path::PathBuf;

use crate::gate::cookies;
use crate::load::{self, Ask, Measured};
use crate::process::Running;
use crate::tls;

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
        print!("{HEAD}{}", measure(&case, rounds, seconds, &set));
    }
}

const HEAD: &str = "| | body | connections | upstream alone | bare pass-through | the path's shape | Passeur | ratio | p99 ratio | CPU a request, ratio | beside the shape: ratio | CPU |\n|---|---|---|---|---|---|---|---|---|---|---|---|\n";

/// The processes under measurement.
struct Set {
    upstream: Running,
    bare: Running,
    shape: Running,
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
        let start = |role: &str| Running::start(&[role, &at, &names]);
        Set { bare: start("bare"), shape: start("shape"), gate: start("gate"), upstream, folder }
    }
}

impl Drop for Set {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// Every case, and the memory of the processes.
pub fn all(rounds: usize, seconds: u64) -> String {
    let set = Set::start();
    let idle = set.gate.memory("VmRSS");
    let mut text = String::from(HEAD);
    for case in cases() {
        let line = measure(&case, rounds, seconds, &set);
        print!("{line}");
        text.push_str(&line);
    }
    let after = set.gate.memory("VmRSS");
    text + &format!(
        "\nMemory of Passeur: {idle} KiB with the edition and its sessions before the load, {after} KiB after it, {} KiB at its peak; of the bare pass-through {} KiB at its peak.\n",
        set.gate.memory("VmHWM"),
        set.bare.memory("VmHWM")
    )
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

/// The median of a figure over rounds.
fn of<'a>(rounds: impl IntoIterator<Item = &'a Round>, figure: impl Fn(&Round) -> f64) -> f64 {
    median(rounds.into_iter().map(figure).collect())
}

/// The median of the ratios of a figure, round by round.
fn ratio(of: &[Round], to: &[Round], figure: impl Fn(&Round) -> f64) -> f64 {
    median(of.iter().zip(to).map(|(a, b)| figure(a) / figure(b).max(1e-12)).collect())
}

fn speed(r: &Round) -> f64 {
    r.measured.per_second
}

fn measure(case: &Case, rounds: usize, seconds: u64, set: &Set) -> String {
    let connector = case.tls.then(|| tls::connector(&set.folder));
    let host = format!("g0.bench.localhost:{}", set.gate.clear.port());
    let cookies = cookies();
    let ask = |to: &Running, cookies: &[String]| Ask {
        at: if case.tls { to.secure } else { to.clear },
        tls: connector.clone(),
        host: host.clone(),
        path: case.path,
        cookies: cookies.to_vec(),
    };
    let direct = Ask { at: set.upstream.clear, tls: None, ..ask(&set.upstream, &[]) };
    let alone = load::run(&direct, case.connections, seconds).per_second;
    let measured =
        [(&set.bare, ask(&set.bare, &[])), (&set.shape, ask(&set.shape, &cookies)), (&set.gate, ask(&set.gate, &cookies))];
    let mut all: [Vec<Round>; 3] = Default::default();
    for n in 0..rounds {
        // Which comes first changes, so that none has the quieter moment.
        for k in 0..3 {
            let which = (n + k) % 3;
            let (process, ask) = &measured[which];
            all[which].push(round(process, ask, case.connections, seconds));
        }
    }
    let [bare, shape, gate] = &all;
    let show = |all: &[Round]| {
        let (median, p99) = (of(all, |r| r.measured.median_us), of(all, |r| r.measured.p99_us));
        format!("{:.0}/s, {median:.0} µs, p99 {p99:.0} µs", of(all, speed))
    };
    format!(
        "| {} | {alone:.0}/s | {} | {} | {} | **{:.2}** | {:.2} | {:.2} | {:.2} | {:.2} |\n",
        case.name(),
        show(bare),
        show(shape),
        show(gate),
        ratio(gate, bare, speed),
        ratio(gate, bare, |r| r.measured.p99_us),
        ratio(gate, bare, |r| r.cpu),
        ratio(gate, shape, speed),
        ratio(gate, shape, |r| r.cpu),
    )
}
