//! Everything kept: PostgreSQL through Diesel, one function a question, typed rows in and out. No Diesel type leaves
//! this crate, and every database error becomes a [`StoreError`] in one place.

mod acts;
mod agreements;
mod crossings;
mod devices;
mod drafts;
mod editions;
mod emergency;
mod factors;
mod flows;
mod forms;
mod known_names;
mod nodes;
mod parked;
mod personal_tokens;
mod pool;
mod rehearsal;
mod roles;
mod schema;
mod secrets;
mod sessions;
mod tokens;
mod trials;
mod upkeep;
mod ways;

pub use acts::Recorded;
pub use agreements::AgreementRow;
pub use crossings::{Cursor, Filter, NewCrossing, OutcomeRow, RecordedCrossing, Usage};
pub use devices::DeviceRow;
pub use drafts::DraftRow;
pub use editions::{EditionHead, EditionRow};
pub use emergency::EmergencySession;
pub use factors::FactorRow;
pub use flows::ProviderFlows;
pub use forms::KeptForm;
pub use parked::NewParked;
pub use personal_tokens::PersonalToken;
pub use pool::{Store, StoreError};
pub use rehearsal::{PastCrossing, PastPages};
pub use roles::{PersonRoles, RoleChange};
pub use secrets::{SealedSecret, SecretHead, SecretMeta, SecretVersion};
pub use sessions::{CodeRow, GateSessions, GateTokenRow, NewCode, NewSession, SessionFilter, SessionRow};
pub use tokens::{NewToken, TokenRow};
pub use trials::TrialRow;
pub use ways::MailedCode;
