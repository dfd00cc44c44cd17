//! Managing a node: the API, trials of providers and directories, the survey, rehearsal of drafts, the emergency account, and the console's
//! files. Everything here is asked for by engineers; nothing here lets a person in anywhere.

pub mod api;
pub mod app;
mod computing;
mod console;
pub mod emergency;
pub mod findings;
pub mod kerberos;
mod lockout;
mod rehearsal;
pub mod router;
mod survey;
mod trials;

pub use app::App;
pub use emergency::Emergency;
