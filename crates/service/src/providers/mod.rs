//! Links to identity providers, one module a protocol: what is fetched from them, kept for a bounded time. [`own`] is what we
//! are to those that speak SAML.

pub mod oidc;
pub mod own;
pub mod saml;

use std::time::Duration as StdDuration;

/// How long metadata and keys are used without being fetched again, in minutes.
const GOOD_FOR: i64 = 60;
/// Keys are fetched again for a signature that fits none at most this often: an attacker's messages must not make us hammer a
/// provider.
const REFETCH_EVERY_S: i64 = 10;
/// How long a failure is passed on without asking again.
const FAILED_FOR_S: i64 = 2;
/// How long a provider may take for one answer.
pub const HTTP_LIMIT: StdDuration = StdDuration::from_secs(8);
