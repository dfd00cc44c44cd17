//! The data path's bench by itself: it builds without the rest of the service, so that a change is measured soon.

use clap::Parser;
use passeur_bench_path::Role;

#[derive(Parser)]
struct Args {
    #[command(subcommand)]
    role: Role,
}

fn main() {
    let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
    Args::parse().role.play();
}
