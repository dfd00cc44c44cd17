//! `passeur key-ring`: files that only the service may read.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use aws_lc_rs::rand;
use passeur_core::id::Token;
use passeur_core::seal::Ring;
use passeur_service::config::read_ring;

use crate::args::KeyRing;
use crate::exit::Exit;

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

/// Makes the file; an existing one is never overwritten.
pub fn run(args: KeyRing) -> Result<(), Exit> {
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
    }
}
