//! Memory of the data path: what an idle session takes, and whether anything grows with requests.

use crate::gate::cookies;
use crate::load::{self, Ask};
use crate::process::Running;

const FEW: u64 = 10_000;
const MANY: u64 = 110_000;
const REQUESTS: u64 = 1_000_000;

/// Measures, and returns the words.
pub fn measure() -> String {
    let upstream = Running::start(&["upstream"]);
    let at = upstream.clear.to_string();
    let resident = |sessions: u64| Running::start(&["gate", &at, "--sessions", &sessions.to_string()]).memory("VmRSS");
    let each = (resident(MANY).saturating_sub(resident(FEW))) * 1024 / (MANY - FEW);
    let gate = Running::start(&["gate", &at]);
    let cookies = cookies();
    let host = format!("g0.bench.localhost:{}", gate.clear.port());
    let ask = Ask { at: gate.clear, tls: None, host, path: "/1k", cookies };
    // Buffers, pools and the allocator's own reserve are there after the first requests.
    load::run(&ask, 64, 5);
    let (before, mut done) = (gate.memory("VmRSS"), 0);
    while done < REQUESTS {
        done += load::run(&ask, 64, 5).requests;
    }
    let after = gate.memory("VmRSS");
    format!(
        "\nAn idle live session takes {each} bytes (the difference between {MANY} and {FEW} of them, eight delivered headers each). \
         Over {done} requests the resident memory went from {before} KiB to {after} KiB.\n"
    )
}
