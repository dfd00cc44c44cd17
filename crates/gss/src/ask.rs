//! What a KDC gives to an account of ours: whether our key signs in, how far its clock is from this machine's, and by which keys
//! the tickets for services are sealed. It admits nobody; it is for finding out what is wrong before people do.

use std::ffi::CString;
use std::ptr;

use crate::failure::Failure;
use crate::initiator::Cache;
use crate::keytab::Keytab;
use crate::krb5::{self, Context, named};

/// What a KDC answered.
#[derive(Clone, Debug)]
pub struct Answered {
    /// Seconds that its clock is ahead of this machine's.
    pub ahead: i64,
    /// When the ticket that gets others ends, in seconds since 1970.
    pub ends: i64,
    /// What came of each service that was asked for, in order.
    pub services: Vec<Result<Given, Failure>>,
}

/// A ticket that the KDC gave for a service.
#[derive(Clone, Debug)]
pub struct Given {
    /// The ticket, in DER (RFC 4120 5.3): its outside says by which key it is sealed.
    pub ticket: Vec<u8>,
    pub enctype_of_session: i32,
}

/// Signs in with a key and asks for tickets for services. May wait long for a KDC that does not answer.
///
/// # Errors
/// Why the account cannot sign in.
pub fn ask(principal: &str, keytab: &Keytab, services: &[String]) -> Result<Answered, Failure> {
    let context = Context::new()?;
    let client = named(&context, principal)?;
    let keys = keytab.open(&context)?;
    // SAFETY: all zero is what the library's own macro makes of a fresh one: null pointers and no numbers.
    let mut own: krb5::krb5_creds = unsafe { std::mem::zeroed() };
    // SAFETY: principal and keytab are live for the call; what it fills in is given back below, whatever follows.
    context.check(unsafe {
        krb5::krb5_get_init_creds_keytab(context.0, &mut own, client.1, keys.1, 0, ptr::null(), ptr::null_mut())
    })?;
    let ends = i64::from(own.times.endtime as u32);
    let cache = Cache::new();
    let kept = keep(&context, &cache, client.1, &mut own);
    // SAFETY: filled by the library above, and given back once.
    unsafe { krb5::krb5_free_cred_contents(context.0, &mut own) };
    let open = kept?;
    let services = services.iter().map(|s| one(&context, &open, client.1, s)).collect();
    let (mut seconds, mut micros) = (0, 0);
    // SAFETY: both are places for a number.
    context.check(unsafe { krb5::krb5_get_time_offsets(context.0, &mut seconds, &mut micros) })?;
    Ok(Answered { ahead: i64::from(seconds), ends, services })
}

/// An open cache, closed when it is dropped. What is in it is destroyed with its [`Cache`].
struct Open<'c>(&'c Context, krb5::krb5_ccache);

impl Drop for Open<'_> {
    fn drop(&mut self) {
        // SAFETY: made by krb5_cc_resolve and closed once.
        unsafe { krb5::krb5_cc_close(self.0.0, self.1) };
    }
}

fn keep<'c>(
    context: &'c Context,
    cache: &Cache,
    client: krb5::krb5_principal,
    own: &mut krb5::krb5_creds,
) -> Result<Open<'c>, Failure> {
    let name = CString::new(cache.name()).unwrap_or_default();
    let mut open = ptr::null_mut();
    // SAFETY: the name outlives the call; on success `open` is a new handle.
    context.check(unsafe { krb5::krb5_cc_resolve(context.0, name.as_ptr(), &mut open) })?;
    let open = Open(context, open);
    // SAFETY: cache, principal and ticket are live; the library copies what it keeps.
    unsafe {
        context.check(krb5::krb5_cc_initialize(context.0, open.1, client))?;
        context.check(krb5::krb5_cc_store_cred(context.0, open.1, own))?;
    }
    Ok(open)
}

fn one(context: &Context, cache: &Open<'_>, client: krb5::krb5_principal, service: &str) -> Result<Given, Failure> {
    let server = named(context, service)?;
    // SAFETY: all zero is a request that names nothing yet; both principals outlive it, and nothing of it is given back.
    let mut asked: krb5::krb5_creds = unsafe { std::mem::zeroed() };
    (asked.client, asked.server) = (client, server.1);
    let mut out = ptr::null_mut();
    // SAFETY: everything is live; on success `out` is a new one, copied from and given back.
    unsafe {
        context.check(krb5::krb5_get_credentials(context.0, 0, cache.1, &mut asked, &mut out))?;
        let data = &(*out).ticket;
        let ticket = match data.data.is_null() {
            true => vec![],
            false => std::slice::from_raw_parts(data.data.cast::<u8>(), data.length as usize).to_vec(),
        };
        let enctype_of_session = (*out).keyblock.enctype;
        krb5::krb5_free_creds(context.0, out);
        Ok(Given { ticket, enctype_of_session })
    }
}
