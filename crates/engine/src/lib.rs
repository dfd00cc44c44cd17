//! A node without pages or API: editions in force, sessions begun and ended, look-ups, providers, tries, attempts with what is recorded
//! of them, and what runs beside the data path.
//!
//! Nothing here writes a page or an answer: what was found is a value, and whoever asked makes words of it. [`engine::Engine`] is what
//! everything shares; gates hold what sessions opened, and are told what becomes of these by [`engine::Holders`].

pub mod attempt;
mod authorities;
mod code_servers;
pub mod console;
pub mod delegations;
pub mod devices;
pub mod editions;
pub mod ending;
pub mod engine;
pub mod entrance_trials;
pub mod factors;
pub mod grants;
pub mod guarding;
pub mod look_up;
pub mod outside;
pub mod passwords;
pub mod people;
pub mod profiles;
pub mod programs;
pub mod providers;
pub mod random;
pub mod recorder;
pub mod rights;
pub mod ring;
pub mod roles;
pub mod secrets;
pub mod sessions;
pub mod short_code;
pub mod tickets;
pub mod tries;
pub mod tunnel;
pub mod upkeep;
pub mod watch;
pub mod workers;

pub use engine::Engine;
