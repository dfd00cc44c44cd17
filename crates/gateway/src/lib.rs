//! The data path: listener → host to gate → cookie to admission → delivery → upstream → response edits → person.
//!
//! Nothing here decides: an admission is made by core from evidence and handed over by [`control::Control`], which also
//! answers everything that is not a plain admitted request. What goes upstream is built by [`outgoing`] alone, and only
//! from an [`admission::Admission`].

pub mod admission;
pub mod body;
pub mod control;
pub mod cookies;
mod head;
mod listener;
mod outgoing;
mod path;
mod response;
pub mod shared;
pub mod table;
mod upstream;
mod websocket;

pub use listener::{Listener, serve};
pub use path::Gateway;
