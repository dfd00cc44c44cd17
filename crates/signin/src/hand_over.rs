//! What a session kept for the application of a gate.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use passeur_core::seal::Purpose;
use passeur_core::site::{Gate, HandOver};
use passeur_engine::Engine;
use passeur_store::SessionRow;

/// What a gate hands to its application of the password that somebody typed (RFC 7617 2), where it does and one is kept.
pub fn handed(engine: &Engine, gate: &Gate, row: &SessionRow) -> Option<String> {
    let HandOver::Basic = gate.hand_over()?;
    let kept = engine.ring.open(Purpose::Kept, row.id.as_bytes(), row.kept.as_ref()?).ok()?;
    Some(format!("Basic {}", STANDARD.encode(kept)))
}
