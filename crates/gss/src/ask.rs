//! What a KDC gives to an account of ours: whether our key signs in, how far its clock is from this machine's, and by which keys
//! the tickets for services are sealed. It admits nobody; it is for finding out what is wrong before people do.

use std::ptr;

use crate::failure::Failure;
use crate::initiator::Cache;
use crate::keytab::Keytab;
use crate::krb5::{self, Context, Creds, OpenCache, named};

/// What a KDC answered.
#[derive(Clone, Debug)]
pub struct Answered {
    /// Seconds that its clock is ahead of this machine's.
    pub ahead: i64,
    /// What came of each service that was asked for, in order: a ticket in DER (RFC 4120 5.3), whose outside says by which key it is
    /// sealed.
    pub services: Vec<Result<Vec<u8>, Failure>>,
}

/// Signs in with a key and asks for tickets for services. May wait long for a KDC that does not answer.
///
/// # Errors
/// Why the account cannot sign in.
pub fn ask(principal: &str, keytab: &Keytab, services: &[String]) -> Result<Answered, Failure> {
    let context = Context::new()?;
    let client = named(&context, principal)?;
    let keys = keytab.open(&context)?;
    let mut own = Creds::new(&context);
    // SAFETY: principal and keytab are live for the call.
    context.check(unsafe {
        krb5::krb5_get_init_creds_keytab(context.0, &mut own.1, client.1, keys.1, 0, ptr::null(), ptr::null_mut())
    })?;
    // Destroyed with what is in it when this is over.
    let cache = Cache::new();
    let open = OpenCache::open(&context, cache.name())?;
    // SAFETY: cache, principal and ticket are live; the library copies what it keeps.
    unsafe {
        context.check(krb5::krb5_cc_initialize(context.0, open.1, client.1))?;
        context.check(krb5::krb5_cc_store_cred(context.0, open.1, &mut own.1))?;
    }
    let services = services.iter().map(|s| one(&context, &open, client.1, s)).collect();
    let (mut seconds, mut micros) = (0, 0);
    // SAFETY: both are places for a number.
    context.check(unsafe { krb5::krb5_get_time_offsets(context.0, &mut seconds, &mut micros) })?;
    Ok(Answered { ahead: i64::from(seconds), services })
}

fn one(context: &Context, cache: &OpenCache<'_>, client: krb5::krb5_principal, service: &str) -> Result<Vec<u8>, Failure> {
    let server = named(context, service)?;
    let mut asked = krb5::asked(client, server.1);
    let mut out = ptr::null_mut();
    // SAFETY: everything is live; on success `out` is a new one, copied from and given back.
    unsafe {
        context.check(krb5::krb5_get_credentials(context.0, 0, cache.1, &mut asked, &mut out))?;
        let data = &(*out).ticket;
        let ticket = match data.data.is_null() {
            true => vec![],
            false => std::slice::from_raw_parts(data.data.cast::<u8>(), data.length as usize).to_vec(),
        };
        krb5::krb5_free_creds(context.0, out);
        Ok(ticket)
    }
}
