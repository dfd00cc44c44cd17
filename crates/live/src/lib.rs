//! What is live on a node, for every kind of gate: the edition in use, the sessions in memory with their end, and the age of the
//! revocation counter. Beside them stand two things of the machine that everything above needs: the one clock, and names resolved to
//! addresses.
//!
//! Nothing here decides, and nothing speaks a protocol. A gate reads an [`edition::Edition`], holds a [`session::LiveSession`] for as long as
//! it lets somebody through, and asks [`sessions::Sessions`] how old what it knows of endings is. What a gate makes of an edition, or keeps
//! for a session, is its own: [`edition::Live`] tells it when an edition takes effect.

pub mod by_key;
pub mod clock;
pub mod edition;
pub mod programs;
pub mod resolve;
pub mod session;
pub mod sessions;
pub mod ticket;
