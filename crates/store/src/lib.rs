//! Everything kept: PostgreSQL through Diesel, one function a question, typed rows in and out. No Diesel type leaves
//! this crate, and every database error becomes a [`StoreError`] in one place.

mod acts;
mod agreements;
mod crossings;
mod drafts;
mod editions;
mod emergency;
mod flows;
mod forms;
mod nodes;
mod parked;
mod pool;
mod rehearsal;
mod schema;
mod secrets;
mod sessions;
mod tokens;
mod trials;
mod upkeep;

pub use acts::Recorded;
pub use agreements::AgreementRow;
pub use crossings::{Cursor, Filter, NewCrossing, OutcomeRow, RecordedCrossing, Usage};
pub use drafts::DraftRow;
pub use editions::{EditionHead, EditionRow};
pub use emergency::EmergencySession;
pub use flows::ProviderFlows;
pub use forms::KeptForm;
pub use parked::NewParked;
pub use pool::{Store, StoreError};
pub use rehearsal::{PastCrossing, PastPages};
pub use secrets::{SealedSecret, SecretHead, SecretMeta, SecretVersion};
pub use sessions::{CodeRow, GateSessions, GateTokenRow, NewCode, NewSession, SessionFilter, SessionRow};
pub use tokens::{NewToken, TokenRow};
pub use trials::TrialRow;
