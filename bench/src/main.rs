//! What identity costs, measured: an upstream directly, a bare pass-through without identity, and Passeur's data path with
//! a live session and a full edition, in processes of their own on one machine. Rounds alternate, and what is reported is
//! the median of the ratios of pairs, since single rounds swing.

mod bare;
mod decide;
mod documents;
mod gate;
mod harbour;
mod kerberos;
mod load;
mod memory;
mod process;
mod report;
mod saml;
mod strangers;
mod support;
mod tls;
mod upstream;

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Parser, Subcommand};

#[derive(Parser)]
struct Args {
    #[command(subcommand)]
    role: Role,
}

#[derive(Subcommand)]
enum Role {
    /// Measure everything and write the report
    All {
        #[arg(long, default_value_t = 7)]
        rounds: usize,
        #[arg(long, default_value_t = 3)]
        seconds: u64,
        /// The file whose table is written anew
        #[arg(long)]
        into: Option<PathBuf>,
    },
    /// Measure one case, named as in the table: "HTTP | 1 KiB | 64"
    One {
        case: String,
        #[arg(long, default_value_t = 7)]
        rounds: usize,
        #[arg(long, default_value_t = 3)]
        seconds: u64,
    },
    /// Measure the whole service; PostgreSQL, slapd and their addresses are there already
    Harbour {
        #[arg(long, default_value_t = 3)]
        seconds: u64,
    },
    /// Measure what strangers do to a live session; PostgreSQL, slapd and their addresses are there already
    Strangers {
        #[arg(long, default_value_t = 5)]
        seconds: u64,
    },
    /// Measure tickets; PostgreSQL, slapd, the KDC and the lock house are there already
    Kerberos {
        #[arg(long, default_value_t = 3)]
        seconds: u64,
    },
    /// Measure memory: of an idle session, and over a million requests
    Memory,
    /// Measure how many SAML responses a core validates a second
    Saml,
    /// Measure how long documents take that are checked and compared
    Documents,
    /// The application: answers with a body of the size its path names
    Upstream,
    /// The pass-through without identity
    Bare { upstream: SocketAddr, folder: Option<PathBuf> },
    /// Passeur's data path
    Gate {
        upstream: SocketAddr,
        folder: Option<PathBuf>,
        #[arg(long, default_value_t = gate::SESSIONS)]
        sessions: usize,
    },
}

fn main() {
    let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
    match Args::parse().role {
        Role::All { rounds, seconds, into } => report::all(rounds, seconds, into),
        Role::One { case, rounds, seconds } => report::one(&case, rounds, seconds),
        Role::Harbour { seconds } => print!("{}", harbour::measure(seconds)),
        Role::Strangers { seconds } => print!("{}", strangers::measure(seconds)),
        Role::Kerberos { seconds } => print!("{}", kerberos::measure(seconds)),
        Role::Memory => print!("{}", memory::measure()),
        Role::Saml => print!("{}", saml::measure()),
        Role::Documents => print!("{}", documents::measure()),
        Role::Upstream => upstream::run(),
        Role::Bare { upstream, folder } => bare::run(upstream, folder),
        Role::Gate { upstream, folder, sessions } => gate::run(upstream, folder, sessions),
    }
}
