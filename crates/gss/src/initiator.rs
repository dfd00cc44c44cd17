//! Tickets for others' services: as somebody who sent a ticket of theirs along, or whom our own account may act for
//! (S4U2Self and S4U2Proxy, [MS-SFU]).
//!
//! **The trap.** A credential that holds Kerberos alone, used to begin SPNEGO, makes the library take whatever the process calls
//! its default, and the service sees us, or anybody, instead of the person. So nothing here begins without all three: the defaults
//! of the process point at nothing ([`crate::prepare`]); the credential itself holds SPNEGO; and it is the expected person's, by
//! its own name before a token leaves, and by the context's once the service has proven itself.

use std::fmt;
use std::ptr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use libgssapi::context::{ClientCtx, CtxFlags, SecurityContext};
use libgssapi::credential::{Cred, CredUsage};
use libgssapi::name::Name;
use libgssapi::oid::{GSS_MECH_KRB5, GSS_MECH_SPNEGO, GSS_NT_KRB5_PRINCIPAL, OidSet};

use crate::credential::{Use, acquire, displayed};
use crate::failure::Failure;
use crate::keytab::Keytab;
use crate::krb5::{self, Context, OpenCache, named};

/// A cache of the library's that lives in memory, destroyed when it is dropped.
pub(crate) struct Cache(String);

impl Cache {
    pub(crate) fn new() -> Cache {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Cache(format!("MEMORY:passeur-{}", NEXT.fetch_add(1, Ordering::Relaxed)))
    }

    /// By which the library finds it.
    pub(crate) fn name(&self) -> &str {
        &self.0
    }
}

impl Drop for Cache {
    fn drop(&mut self) {
        // They are the process's and stay until they are destroyed.
        if let Ok(context) = Context::new() {
            krb5::destroy_cache(&context, &self.0);
        }
    }
}

/// An account of ours at a KDC, that may act for others.
pub struct Account {
    principal: String,
    keytab: Keytab,
    cache: Cache,
}

impl fmt::Debug for Account {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Account({})", self.principal)
    }
}

/// A ticket that a person sent along, as it came.
pub struct Delegated(pub(crate) Cred);

impl fmt::Debug for Delegated {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Delegated(…)")
    }
}

/// The right to ask for services as one person. Dropped with their session.
pub struct Delegation {
    person: String,
    ends: Instant,
    // Before the cache, which it was acquired from.
    cred: Cred,
    _cache: Option<Cache>,
}

impl fmt::Debug for Delegation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Delegation({})", self.person)
    }
}

/// A token for a service, and the side that waits for its answer.
pub struct Shown {
    person: String,
    token: Vec<u8>,
    context: ClientCtx,
}

impl fmt::Debug for Shown {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Shown(for {})", self.person)
    }
}

fn principal(text: &str) -> Result<Name, Failure> {
    Ok(Name::new(text.as_bytes(), Some(GSS_NT_KRB5_PRINCIPAL))?)
}

impl Account {
    /// An account whose key stands in a keytab. Asks nobody yet.
    pub fn new(principal: String, keytab: Keytab) -> Account {
        Account { principal, keytab, cache: Cache::new() }
    }

    /// Our own credential. Anew each time: one that is kept fails once its ticket has expired, and asking the cache costs nothing.
    fn own(&self) -> Result<Cred, Failure> {
        let keys = self.keytab.name();
        acquire(Some(&self.principal), Use::Initiate, &[("client_keytab", &keys), ("ccache", &self.cache.0)])
    }

    /// Signs in where the last ticket has run out, and acts for a person. Nothing of theirs is needed: the KDC says whether we may.
    ///
    /// # Errors
    /// Why not: our own account cannot sign in, nobody has that name, their account may not be used.
    pub fn act_for(&self, person: &str) -> Result<Delegation, Failure> {
        let mut mechanisms = OidSet::new();
        mechanisms.add(GSS_MECH_SPNEGO)?;
        let cred = self.own()?.impersonate(&principal(person)?, None, CredUsage::Initiate, Some(&mechanisms))?;
        Delegation { person: person.to_owned(), ends: Instant::now(), cred, _cache: None }.checked()
    }

    /// Whether what the KDC gives us for a person may be forwarded, and so used to act for them: for finding out what forbids it.
    /// To be asked once [`Account::act_for`] was.
    ///
    /// # Errors
    /// When it cannot be found out.
    pub fn may_act_for(&self, person: &str) -> Result<bool, Failure> {
        let context = Context::new()?;
        let (client, server) = (named(&context, person)?, named(&context, &self.principal)?);
        let cache = OpenCache::open(&context, self.cache.name())?;
        let mut asked = krb5::asked(client.1, server.1);
        let mut out = ptr::null_mut();
        // SAFETY: everything is live; what came out is given back once its flags were read.
        unsafe {
            let options = krb5::KRB5_GC_NO_STORE as krb5::krb5_flags;
            let code = krb5::krb5_get_credentials_for_user(context.0, options, cache.1, &mut asked, ptr::null_mut(), &mut out);
            context.check(code)?;
            let forwardable = (*out).ticket_flags as u32 & krb5::TKT_FLG_FORWARDABLE != 0;
            krb5::krb5_free_creds(context.0, out);
            Ok(forwardable)
        }
    }

    /// Signs in, whoever it is for: whether our own account can.
    ///
    /// # Errors
    /// Why it cannot.
    pub fn sign_in(&self) -> Result<(), Failure> {
        let cred = self.own()?;
        // Signing in is put off until something is asked for.
        let realm = self.principal.rsplit_once('@').map_or("", |(_, r)| r);
        let target = principal(&format!("krbtgt/{realm}@{realm}"))?;
        let mut context = ClientCtx::new(Some(cred), target, CtxFlags::empty(), Some(GSS_MECH_KRB5));
        context.step(None, None)?;
        Ok(())
    }
}

impl Delegated {
    /// Stands for the person whose ticket it is.
    ///
    /// # Errors
    /// When it is not theirs after all, or cannot be used.
    pub fn of(self, person: &str) -> Result<Delegation, Failure> {
        let cache = Cache::new();
        self.0.store_into(&cache.0, true, false, CredUsage::Initiate, Some(GSS_MECH_KRB5))?;
        let cred = acquire(Some(person), Use::Initiate, &[("ccache", &cache.0)])?;
        Delegation { person: person.to_owned(), ends: Instant::now(), cred, _cache: Some(cache) }.checked()
    }
}

impl Delegation {
    /// Whose it is.
    pub fn person(&self) -> &str {
        &self.person
    }

    /// The second and third safeguard, as far as they can be had before anything is sent.
    fn checked(mut self) -> Result<Delegation, Failure> {
        self.ends = Instant::now() + self.cred.lifetime()?;
        if !self.cred.mechanisms()?.contains(GSS_MECH_SPNEGO)? {
            return Err(Failure::other("the credential holds no SPNEGO, so that another one would be used in its place"));
        }
        let is = displayed(&self.cred.name()?)?;
        if is != self.person {
            return Err(Failure::other(format!("the credential is that of {is}, and not of {}", self.person)));
        }
        Ok(self)
    }

    /// A token for a service, that asks it to prove itself. Asks the KDC where there is no ticket for it yet.
    ///
    /// # Errors
    /// Why there is none.
    pub fn token(&self, service: &str) -> Result<Shown, Failure> {
        let target = principal(service)?;
        let mut context = ClientCtx::new(Some(self.cred.clone()), target, CtxFlags::GSS_C_MUTUAL_FLAG, Some(GSS_MECH_SPNEGO));
        let token = context.step(None, None)?.ok_or_else(|| Failure::other("the library gave no token"))?.to_vec();
        Ok(Shown { person: self.person.clone(), token, context })
    }

    /// For how long it is good, in seconds.
    pub fn lasts(&self) -> u64 {
        self.ends.saturating_duration_since(Instant::now()).as_secs()
    }
}

impl Shown {
    /// Whom it shows.
    pub fn person(&self) -> &str {
        &self.person
    }

    /// What is sent.
    pub fn token(&self) -> &[u8] {
        &self.token
    }

    /// Whether what a service answered proves that it is the one that was asked for, and that it was shown the person.
    ///
    /// # Errors
    /// Why it does not.
    pub fn proves(mut self, answer: &[u8]) -> Result<(), Failure> {
        self.context.step(Some(answer), None)?;
        if !self.context.is_complete() {
            return Err(Failure::other("the service wants another round"));
        }
        if !self.context.flags()?.contains(CtxFlags::GSS_C_MUTUAL_FLAG) {
            return Err(Failure::other("the service did not prove itself"));
        }
        let is = displayed(&self.context.source_name()?)?;
        if is != self.person {
            return Err(Failure::other(format!("the service was shown {is}, and not {}", self.person)));
        }
        Ok(())
    }
}
