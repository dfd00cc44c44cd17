//! `passeur key-ring`: files that only the service may read.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use aws_lc_rs::rand;
use passeur_core::id::Token;
use passeur_core::seal::Ring;
use passeur_service::config::read_ring;

use passeur_api::{RetireKey, RingKey};

use super::{list, no_csv};
use crate::args::{ClientArgs, KeyRing, Output};
use crate::client::Client;
use crate::exit::Exit;
use crate::output::{Cell, Tone, fixed, json, moment, rest};

fn random() -> Result<[u8; 32], Exit> {
    let mut bytes = [0u8; 32];
    rand::fill(&mut bytes).map_err(|_| Exit::Failed("the system gives no random bytes".into()))?;
    Ok(bytes)
}

/// Writes a file that only its owner may read; an existing one is never overwritten.
pub fn write_new(path: &Path, text: &str) -> Result<(), Exit> {
    let failed = |e: std::io::Error| Exit::Failed(format!("{}: {e}", path.display()));
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}

fn show(c: &ClientArgs, keys: &[RingKey]) -> Result<(), Exit> {
    let columns = [
        fixed("key"),
        fixed("state"),
        fixed("since"),
        fixed("secrets"),
        fixed("factors"),
        fixed("sessions"),
        fixed("recovery codes"),
        rest("acts"),
    ];
    let row = |k: &RingKey| {
        let state: Cell = match (k.retired, k.seals, k.here) {
            (Some(_), ..) => Cell("retired".into(), Tone::Quiet),
            (None, true, _) => Cell("seals".into(), Tone::Good),
            (None, false, true) => "opens".into(),
            (None, false, false) => Cell("not here".into(), Tone::Bad),
        };
        let counts = [k.secrets, k.factors, k.sessions, k.recovery_codes, k.acts];
        let mut cells = vec![Cell(k.number.to_string(), Tone::Strong), state, moment(k.since).into()];
        cells.extend(counts.iter().map(|n| Cell::from(n.to_string())));
        cells
    };
    let rows: Vec<Vec<Cell>> = keys.iter().map(row).collect();
    list(c, &keys, &columns, &rows, "This database was sealed with no key yet.")
}

/// Makes the file; an existing one is never overwritten.
pub async fn run(args: KeyRing, c: &ClientArgs) -> Result<(), Exit> {
    match args {
        KeyRing::New { file } => write_new(&file, &Ring::line(1, random()?)),
        KeyRing::Token { file } => write_new(&file, &format!("{}\n", Token::from_random(random()?).reveal())),
        KeyRing::Add { file } => {
            read_ring(&file).map_err(|e| Exit::Failed(e.to_string()))?;
            let failed = |e: std::io::Error| Exit::Failed(format!("{}: {e}", file.display()));
            let text = std::fs::read_to_string(&file).map_err(failed)?;
            let highest = text.lines().filter_map(|l| l.split(' ').next()?.parse::<u16>().ok()).max().unwrap_or(0);
            let number = highest.checked_add(1).ok_or_else(|| Exit::Failed("the ring has no free number".into()))?;
            let lead = if text.ends_with('\n') { "" } else { "\n" };
            let mut open = OpenOptions::new().append(true).open(&file).map_err(failed)?;
            open.write_all(format!("{lead}{}", Ring::line(number, random()?)).as_bytes()).map_err(failed)
        }
        KeyRing::List => {
            let keys: Vec<RingKey> = Client::new(c)?.get("/key-ring", &[]).await?;
            show(c, &keys)
        }
        KeyRing::Retire { number, anyway } => {
            no_csv(c)?;
            let keys: Vec<RingKey> = Client::new(c)?.post(&format!("/key-ring/{number}/retire"), &RetireKey { anyway }).await?;
            if c.output == Output::Json {
                return json(&keys);
            }
            say!("key {number} is retired: nothing is sealed under it any more");
            say!("Take its line out of the ring file of every node, and keep it with backups from before today.");
            Ok(())
        }
    }
}
