//! What every part that speaks HTTP reads from the head of a request: our cookies, what the records keep of a request, and what the
//! connection showed. Types of the `http` crate go in, types of core come out; no server and no client is here.

pub mod cookies;
pub mod facts;

pub use facts::{ClientChain, ServedCertificate, facts_of, is_navigation};
