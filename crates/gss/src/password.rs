//! A name and password that a KDC is asked about (RFC 4120 3.1).
//!
//! That somebody answers to a password proves nothing: whoever stands between us and the KDC could answer to any. So a ticket for
//! a service of ours is asked for with it, and opened with a key that only the true KDC knows.

use std::ffi::{CStr, CString};
use std::ptr;

use crate::failure::{Failure, Why};
use crate::keytab::Keytab;
use crate::krb5::{self, Context, Creds, Named, named};

/// Says that a check without a key of ours is none.
const NO_FAIL: krb5::krb5_int32 = 1;

fn c_string(text: &str) -> Result<CString, Failure> {
    CString::new(text).map_err(|_| Failure { why: Why::WrongPassword, code: 0, words: "a zero byte was typed".to_owned() })
}

/// Asks for a first ticket by a password.
fn first<'c>(context: &'c Context, client: &Named<'_>, password: &CStr) -> Result<Creds<'c>, Failure> {
    let mut given = Creds::new(context);
    // SAFETY: principal and password outlive the call; no prompter is given, so that nothing is ever asked back.
    context.check(unsafe {
        krb5::krb5_get_init_creds_password(
            context.0,
            &mut given.1,
            client.1,
            password.as_ptr(),
            None,
            ptr::null_mut(),
            0,
            ptr::null(),
            ptr::null_mut(),
        )
    })?;
    Ok(given)
}

/// Asks the KDC of a principal's realm whether this is its password, and proves the answer with our key of `service`. May wait
/// long for a KDC that does not answer. Returns the principal as the KDC calls it.
///
/// # Errors
/// What the KDC says of the account, or why it could not be asked.
pub(crate) fn check(keytab: &Keytab, principal: &str, password: &str, service: &str) -> Result<String, Failure> {
    // An empty password could stand for a key that is none.
    if password.is_empty() {
        return Err(Failure { why: Why::WrongPassword, code: 0, words: "no password was typed".to_owned() });
    }
    let password = c_string(password)?;
    let context = Context::new()?;
    let client = named(&context, principal)?;
    let server = named(&context, service)?;
    let keys = keytab.open(&context)?;
    let mut given = first(&context, &client, &password)?;
    let mut options =
        krb5::krb5_verify_init_creds_opt { flags: krb5::KRB5_VERIFY_INIT_CREDS_OPT_AP_REQ_NOFAIL as i32, ap_req_nofail: NO_FAIL };
    // SAFETY: everything is live and ours; without a cache the ticket is fetched into one that lives for the call.
    context.check(unsafe {
        krb5::krb5_verify_init_creds(context.0, &mut given.1, server.1, keys.1, ptr::null_mut(), &mut options)
    })?;
    context.displayed(given.1.client)
}

/// Whether a KDC of a realm answers, asked about somebody whom nobody is. May wait long.
///
/// # Errors
/// When none does.
pub fn is_there(realm: &str) -> Result<(), Failure> {
    let context = Context::new()?;
    let client = named(&context, &format!("nobody-of-passeur@{realm}"))?;
    match first(&context, &client, c"nobody") {
        Err(e) if matches!(e.why, Why::NoKdc | Why::NoRealm | Why::Config) => Err(e),
        // Whatever it says, it is there.
        _ => Ok(()),
    }
}
