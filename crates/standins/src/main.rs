//! Runs the demo's stand-ins.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};
use passeur_standins::{cranes, gateway, ledger, locks, mailbox, provider, relay, serve, serve_told};

#[derive(Parser)]
#[command(about = "The demo's stand-ins: an identity provider and legacy applications")]
struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// The pilotage office's identity provider.
    Provider {
        #[arg(long)]
        listen: SocketAddr,
        #[arg(long)]
        issuer: String,
        /// TOML with clients and people.
        #[arg(long)]
        people: PathBuf,
    },
    /// The berth ledger.
    Ledger {
        #[arg(long)]
        listen: SocketAddr,
    },
    /// The mail box: takes mail, and shows it on a page.
    Mailbox {
        #[arg(long)]
        listen: SocketAddr,
        /// Where it takes mail.
        #[arg(long)]
        smtp: SocketAddr,
    },
    /// The crane logbook.
    Cranes {
        #[arg(long)]
        listen: SocketAddr,
    },
    /// Passes connections on, so that what listens outside a network namespace is reached inside.
    Relay {
        /// FROM=TO, each tcp:ADDRESS:PORT or unix:PATH; may stand several times.
        #[arg(long = "pass", required = true)]
        passes: Vec<relay::Pass>,
    },
    /// The gateway of the quays: takes orders to end sessions.
    Gateway {
        #[arg(long)]
        listen: SocketAddr,
        /// Where it tells that a session is over.
        #[arg(long)]
        radius: SocketAddr,
        /// The secret that both share.
        #[arg(long)]
        secret_file: PathBuf,
    },
    /// The lock house, which takes Kerberos tickets alone, by the keys that KRB5_KTNAME names.
    Locks {
        #[arg(long)]
        listen: SocketAddr,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    let started = match Args::parse().what {
        What::Provider { listen, issuer, people } => {
            let text = match std::fs::read_to_string(&people) {
                Ok(t) => t,
                Err(e) => return fail(&format!("{}: {e}", people.display())),
            };
            match provider::Register::parse(&text) {
                Ok(register) => serve(listen, provider::Provider::new(issuer, register).router()).await,
                Err(e) => return fail(&format!("{}: {e}", people.display())),
            }
        }
        What::Gateway { listen, radius, secret_file } => {
            let secret = match std::fs::read_to_string(&secret_file) {
                Ok(text) => text.trim_end().as_bytes().to_vec(),
                Err(e) => return fail(&format!("{}: {e}", secret_file.display())),
            };
            return match gateway::serve(listen, radius, secret).await {
                Ok(()) => ExitCode::SUCCESS,
                Err(e) => fail(&format!("{listen}: {e}")),
            };
        }
        What::Ledger { listen } => serve(listen, ledger::router()).await,
        What::Mailbox { listen, smtp } => {
            let mailbox = mailbox::MailBox::default();
            match mailbox.serve(smtp).await {
                Ok(_) => serve(listen, mailbox.router()).await,
                Err(e) => return fail(&e.to_string()),
            }
        }
        What::Cranes { listen } => serve(listen, cranes::router()).await,
        What::Relay { passes } => {
            let mut all: Vec<_> = passes.into_iter().map(|p| tokio::spawn(relay::run(p))).collect();
            // Each runs until it cannot, and one that cannot is enough to say so.
            let Some(first) = all.pop() else { return ExitCode::SUCCESS };
            return match first.await {
                Ok(Err(e)) => fail(&e.to_string()),
                _ => ExitCode::SUCCESS,
            };
        }
        What::Locks { listen } => serve_told(listen, locks::router()).await,
    };
    match started {
        Ok((address, task)) => {
            println!("listening on {address}");
            let _ = task.await;
            ExitCode::SUCCESS
        }
        Err(e) => fail(&e.to_string()),
    }
}

fn fail(why: &str) -> ExitCode {
    eprintln!("passeur-standins: {why}");
    ExitCode::FAILURE
}
