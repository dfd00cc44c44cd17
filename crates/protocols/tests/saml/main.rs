//! SAML as a hostile world sends it. Messages are signed by Debian's xmlsec1, whose code shares nothing with ours.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

mod encrypted;
mod metadata;
mod peer;
mod requests;
mod responses;
mod signing_out;
mod wrapping;
