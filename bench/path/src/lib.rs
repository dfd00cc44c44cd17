//! What identity costs on the data path, measured: an upstream directly, a bare pass-through without identity, the shape of the data path
//! with nothing around it, and Passeur's data path with live sessions and a full edition, in processes of their own on one machine.
//! Rounds alternate, and what is reported is the median of the ratios, since single rounds swing.

mod bare;
mod decide;
mod documents;
pub mod gate;
mod instructions;
pub mod load;
mod memory;
mod process;
mod rounds;
mod shape;
mod tls;
mod upstream;

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Subcommand;

/// What a process of the bench does. Those under measurement are started from the same binary.
#[derive(Subcommand)]
pub enum Role {
    /// Measure all of the data path
    Path {
        #[arg(long, default_value_t = 5)]
        rounds: usize,
        #[arg(long, default_value_t = 2)]
        seconds: u64,
    },
    /// Measure one case, named as in the table: "HTTP | 1 KiB | 64"
    One {
        case: String,
        #[arg(long, default_value_t = 7)]
        rounds: usize,
        #[arg(long, default_value_t = 3)]
        seconds: u64,
    },
    /// Count the instructions that a request costs outside the kernel; valgrind is there already
    Instructions,
    /// Measure memory: of an idle session, and over a million requests
    Memory,
    /// Measure how long documents take that are checked and compared
    Documents,
    /// The application: answers with a body of the size its path names
    Upstream,
    /// The pass-through without identity
    Bare { upstream: SocketAddr, folder: Option<PathBuf> },
    /// The shape of the data path: a runtime and a pool a core, a look-up, eight headers
    Shape { upstream: SocketAddr, folder: Option<PathBuf> },
    /// Passeur's data path
    Gate {
        upstream: SocketAddr,
        folder: Option<PathBuf>,
        #[arg(long, default_value_t = gate::SESSIONS)]
        sessions: usize,
    },
}

impl Role {
    /// Does it, to the end of the process where it is one that is measured.
    pub fn play(self) {
        match self {
            Role::Path { rounds, seconds } => print!("\n{}", measure(rounds, seconds)),
            Role::One { case, rounds, seconds } => rounds::one(&case, rounds, seconds),
            Role::Instructions => print!("{}", instructions::measure()),
            Role::Memory => print!("{}", memory::measure()),
            Role::Documents => print!("{}", documents::measure()),
            Role::Upstream => upstream::run(),
            Role::Bare { upstream, folder } => bare::run(upstream, folder),
            Role::Shape { upstream, folder } => shape::run(upstream, folder),
            Role::Gate { upstream, folder, sessions } => gate::run(upstream, folder, sessions),
        }
    }
}

/// The tables of the data path, and what else is measured without a server of others.
pub fn measure(rounds: usize, seconds: u64) -> String {
    let mut text = rounds::all(rounds, seconds);
    text.push_str(&instructions::measure());
    text.push_str(&decide::table());
    text.push_str(&documents::measure());
    text.push_str(&memory::measure());
    text
}
