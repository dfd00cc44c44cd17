//! `passeur`: the service, and the client of its management API. Parses, calls, prints; decides nothing itself.

/// Prints like `print!`; a reader that went away ends the program quietly instead of with a panic.
macro_rules! tell {
    ($($arg:tt)*) => {{
        use std::io::Write;
        if let Err(e) = write!(std::io::stdout(), $($arg)*) {
            $crate::exit::not_written(&e);
        }
    }};
}

/// The same, with a line end.
macro_rules! say {
    () => { tell!("\n") };
    ($($arg:tt)*) => {{
        tell!($($arg)*);
        tell!("\n");
    }};
}

mod args;
mod client;
mod commands;
mod exit;
mod output;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let args = args::Args::parse();
    let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
    let prepared = match &args.command {
        args::Command::Serve(serve) => passeur_links::kerberos::prepare(serve.krb5_config.as_deref()),
        args::Command::Kerberos(args::Kerberos::Read { ask: true, krb5_config, .. }) => {
            passeur_links::kerberos::prepare(krb5_config.as_deref())
        }
        _ => Ok(()),
    };
    if let Err(e) = prepared {
        return exit::Exit::Failed(e.to_string()).report();
    }
    let runtime = match passeur_service::runtime() {
        Ok(r) => r,
        Err(e) => return exit::Exit::Failed(format!("the runtime cannot be started: {e}")).report(),
    };
    let done = runtime.block_on(commands::run(args));
    if let Err(e) = std::io::Write::flush(&mut std::io::stdout()) {
        exit::not_written(&e);
    }
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => e.report(),
    }
}
