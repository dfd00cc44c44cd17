//! Whoever shows a ticket (RFC 4121 through RFC 4178).

use std::fmt;

use libgssapi::context::{SecurityContext, ServerCtx};
use libgssapi::credential::Cred;

use crate::credential::{Use, acquire, displayed};
use crate::failure::Failure;
use crate::initiator::Delegated;
use crate::inside::{self, Inside};
use crate::keytab::Keytab;
use crate::password;

/// Set in a context's flags when both sides gave the same channel bindings (MIT Kerberos 1.19 and later).
const CHANNEL_BOUND: u32 = 2048;

/// One set of keys, by which tickets are opened.
pub struct Acceptor {
    cred: Cred,
    keytab: Keytab,
}

impl fmt::Debug for Acceptor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Acceptor({:?})", self.keytab)
    }
}

/// What an accepted token says.
#[derive(Debug)]
pub struct Accepted {
    /// The principal whose ticket it is.
    pub client: String,
    /// The principal it is for.
    pub service: String,
    /// What the client is answered, so that it knows us too.
    pub answer: Option<Vec<u8>>,
    /// Whether the ticket is bound to the TLS channel it came on.
    pub bound: bool,
    /// The ticket of its own that the client sent along, to be used for it.
    pub delegated: Option<Delegated>,
}

impl Acceptor {
    /// Opens tickets for every principal that the keytab holds.
    ///
    /// # Errors
    /// When it holds no key, or is none.
    pub fn new(keytab: Keytab) -> Result<Acceptor, Failure> {
        let cred = acquire(None, Use::Accept, &[("keytab", &keytab.name()), ("rcache", "none:")])?;
        Ok(Acceptor { cred, keytab })
    }

    /// Judges one token, of SPNEGO or of Kerberos itself. `bindings` are those of the TLS channel it came on (RFC 5929), where
    /// there is one; a client that gives none is taken all the same, one that gives others is not.
    ///
    /// Nothing here knows whether the same token was shown before.
    ///
    /// # Errors
    /// Why it is not taken; also where the client wants another round, which nothing binds to this one.
    pub fn accept(&self, token: &[u8], bindings: Option<&[u8]>) -> Result<Accepted, Failure> {
        let mut context = ServerCtx::new(Some(self.cred.clone()));
        let answer = context.step(token, bindings)?;
        if !context.is_complete() {
            return Err(Failure::other("the client wants another round"));
        }
        Ok(Accepted {
            client: displayed(&context.source_name()?)?,
            service: displayed(&context.target_name()?)?,
            answer: answer.map(|a| a.to_vec()),
            bound: context.flags()?.bits() & CHANNEL_BOUND != 0,
            delegated: context.take_delegated_cred().map(Delegated),
        })
    }

    /// Asks the KDC of a principal's realm whether this is its password: see [`password`].
    ///
    /// # Errors
    /// What the KDC says of the account, or why it could not be asked.
    pub fn check_password(&self, principal: &str, password: &str, service: &str) -> Result<String, Failure> {
        password::check(&self.keytab, principal, password, service)
    }

    /// Opens a ticket and the proof that came with it, to explain them. Nobody is let in by this.
    ///
    /// # Errors
    /// Why it cannot be opened: no key, another version, another encryption type, another key.
    pub fn look_into(&self, ticket: &[u8], proof: Option<(i32, &[u8])>) -> Result<Inside, Failure> {
        inside::look(&self.keytab, ticket, proof)
    }
}
