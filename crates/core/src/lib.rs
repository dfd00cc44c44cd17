//! The part of Passeur that decides and explains.
//!
//! No I/O, async, clock, randomness or interface code: what is needed comes in as an argument (`now`, nonces, documents)
//! and what was decided goes out as data. The same functions therefore serve live requests, the story of a crossing and
//! rehearsal. The reading order is that of a sign-in:
//!
//! * [`site`]: what an edition says, as types; [`document`]: how the text becomes one, all its mistakes listed at once;
//! * [`evidence`]: what was received, as received;
//! * [`route`]: which way in somebody takes;
//! * [`identity`]: evidence seen through one edition, and [`mapping`]: attributes made from others;
//! * [`condition`] and [`decide`]: rules folded into a decision and a proof of admission;
//! * [`delivery`]: the values handed to an upstream;
//! * [`compare`], [`rehearse`] and [`expect`]: what a change of edition means, for whom, and what must stay so;
//! * [`survey`]: what is wrong with everything a site depends on; [`host`]: with a host that people reach by SSH and a ticket; [`finding`]:
//!   how either is told;
//! * [`step`] and [`crossing`]: what happened, kept as data and told in words;
//! * [`role`]: how far an engineer may go;
//! * [`acts`]: the chained record of what engineers do; [`likeness`]: whether two of them may be one human being;
//! * [`tunnel`]: what is known of a tunnel that asks to be opened; [`account`]: what a RADIUS client tells of a session of its own;
//! * [`seal`], [`session`], [`id`], [`address`], [`path`], [`recorder`]: the small certain parts the rest stands on.

pub mod account;
pub mod acts;
pub mod address;
pub mod asking;
pub mod attribute;
pub mod before;
pub mod circumstances;
pub mod compare;
pub mod condition;
pub mod crossing;
pub mod decide;
pub mod delivery;
pub mod device;
pub mod dn;
pub mod document;
pub mod evidence;
pub mod expect;
pub mod finding;
pub mod forwarded;
pub mod guard;
pub mod host;
pub mod id;
pub mod identity;
pub mod likeness;
pub mod mapping;
pub mod path;
pub mod person;
pub mod principal;
pub mod recorder;
pub mod rehearse;
pub mod role;
pub mod route;
pub mod seal;
pub mod session;
pub mod sheet;
pub mod site;
pub mod step;
pub mod survey;
pub mod text;
pub mod tunnel;
pub mod x509;

/// A moment on the one clock the service was started with. Core never asks for the time itself.
pub type Moment = chrono::DateTime<chrono::Utc>;
