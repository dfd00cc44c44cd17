//! `passeur-sluice`: see the library of this crate.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Parser;
use passeur_sluice::guard::Guard;
use passeur_sluice::plan::is_interface;
use passeur_sluice::server;

/// Opens and closes networks for Passeur: the one process that may change the packet filter, and only one table of it, named passeur.
///
/// Give it CAP_NET_ADMIN and nothing else, and a user of its own. docs/networks.md has the unit for systemd.
#[derive(Parser)]
#[command(version)]
struct Args {
    /// The Unix socket that the service asks at
    #[arg(long, default_value = "/run/passeur-sluice/sluice.sock")]
    socket: PathBuf,
    /// A user that may ask, by number; the one the service runs as
    #[arg(long = "peer", value_name = "UID", required = true)]
    peers: Vec<u32>,
    /// An interface that may be guarded; none other is ever closed or opened
    #[arg(long = "interface", value_name = "NAME", required = true, value_parser = interface)]
    interfaces: Vec<String>,
    /// The command that loads rules
    #[arg(long, default_value = "/usr/sbin/nft")]
    nft: PathBuf,
}

fn interface(text: &str) -> Result<String, String> {
    match is_interface(text) {
        true => Ok(text.to_owned()),
        false => Err("an interface has at most 15 letters, digits, dots and hyphens".to_owned()),
    }
}

fn main() -> ExitCode {
    let args = Args::parse();
    let done = Guard::new(args.nft, args.interfaces).map_err(|e| e.to_string());
    let done = done.and_then(|guard| {
        let bad = |e: std::io::Error| format!("{} cannot be listened on: {e}", args.socket.display());
        server::run(guard, &args.socket, args.peers).map_err(bad)
    });
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("{e}");
            ExitCode::FAILURE
        }
    }
}
