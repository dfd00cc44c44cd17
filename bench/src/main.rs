//! What identity costs, measured, as a whole: the data path ([`passeur_bench_path`]), sign-ins, strangers, tickets, SAML, in processes of
//! their own on one machine.

mod harbour;
mod kerberos;
mod network;
mod report;
mod saml;
mod strangers;
mod support;

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
    /// Measure the network gate's sluice against this kernel, in namespaces of its own: as root, or where a user may make them
    Network {
        /// Only with so many present; by itself each number in a process of its own
        #[arg(long)]
        present: Option<u32>,
    },
    /// Measure how many SAML responses a core validates a second
    Saml,
    #[command(flatten)]
    Path(passeur_bench_path::Role),
}

fn main() {
    let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
    match Args::parse().role {
        Role::All { rounds, seconds, into } => report::all(rounds, seconds, into),
        Role::Harbour { seconds } => print!("{}", harbour::measure(seconds)),
        Role::Strangers { seconds } => print!("{}", strangers::measure(seconds)),
        Role::Network { present } => print!("{}", network::measure(present)),
        Role::Kerberos { seconds } => print!("{}", kerberos::measure(seconds)),
        Role::Saml => print!("{}", saml::measure()),
        Role::Path(role) => role.play(),
    }
}
