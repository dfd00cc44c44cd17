//! The library's own declarations, and what has to be given back to it.

#![allow(non_upper_case_globals, non_camel_case_types, non_snake_case, dead_code, clippy::all, unreachable_pub)]

include!(concat!(env!("OUT_DIR"), "/krb5.rs"));

use std::ffi::{CStr, CString};
use std::ptr;

use crate::failure::{Failure, Why};

unsafe extern "C" {
    /// A ticket of ours as somebody (S4U2Self). The library exports it, and its header for others passes it over.
    pub(crate) fn krb5_get_credentials_for_user(
        context: krb5_context,
        options: krb5_flags,
        cache: krb5_ccache,
        asked: *mut krb5_creds,
        certificate: *mut krb5_data,
        out: *mut *mut krb5_creds,
    ) -> krb5_error_code;
}

/// A context of the library, for one thread at a time.
pub(crate) struct Context(pub(crate) krb5_context);

impl Context {
    pub(crate) fn new() -> Result<Context, Failure> {
        let mut out = ptr::null_mut();
        // SAFETY: `out` is a place for the new context; on failure it stays null.
        let code = unsafe { krb5_init_context(&mut out) };
        match code {
            0 => Ok(Context(out)),
            code => Err(Failure { why: Why::of(code), code, words: "krb5.conf cannot be read".to_owned() }),
        }
    }

    /// What a code means, in the library's words.
    pub(crate) fn failure(&self, code: krb5_error_code) -> Failure {
        // SAFETY: the context is live; the text is copied before it is given back.
        let words = unsafe {
            let text = krb5_get_error_message(self.0, code);
            let words = if text.is_null() { String::new() } else { CStr::from_ptr(text).to_string_lossy().into_owned() };
            if !text.is_null() {
                krb5_free_error_message(self.0, text);
            }
            words
        };
        Failure { why: Why::of(code), code, words }
    }

    /// A principal as text.
    pub(crate) fn displayed(&self, principal: krb5_const_principal) -> Result<String, Failure> {
        let mut text = ptr::null_mut();
        // SAFETY: whoever calls holds the principal; the text is copied and given back.
        unsafe {
            self.check(krb5_unparse_name(self.0, principal, &mut text))?;
            let out = CStr::from_ptr(text).to_string_lossy().into_owned();
            krb5_free_unparsed_name(self.0, text);
            Ok(out)
        }
    }

    pub(crate) fn check(&self, code: krb5_error_code) -> Result<(), Failure> {
        if code == 0 { Ok(()) } else { Err(self.failure(code)) }
    }
}

impl Drop for Context {
    fn drop(&mut self) {
        // SAFETY: made by krb5_init_context and given back once.
        unsafe { krb5_free_context(self.0) };
    }
}

/// What a KDC gave, given back when it is dropped.
pub(crate) struct Creds<'c>(&'c Context, pub(crate) krb5_creds);

impl<'c> Creds<'c> {
    /// A place for it.
    pub(crate) fn new(context: &'c Context) -> Creds<'c> {
        // SAFETY: all zero is what the library's own macro makes of a fresh one: null pointers and no numbers.
        Creds(context, unsafe { std::mem::zeroed() })
    }
}

impl Drop for Creds<'_> {
    fn drop(&mut self) {
        // SAFETY: its parts were filled by the library, or are null; they are given back once.
        unsafe { krb5_free_cred_contents(self.0.0, &mut self.1) };
    }
}

/// What is asked for: a ticket of a client for a service. Nothing of it is given back; both principals must outlive it.
pub(crate) fn asked(client: krb5_principal, server: krb5_principal) -> krb5_creds {
    // SAFETY: all zero is a request that names nothing yet.
    let mut out: krb5_creds = unsafe { std::mem::zeroed() };
    (out.client, out.server) = (client, server);
    out
}

/// An open cache, closed when it is dropped. What is in it stays.
pub(crate) struct OpenCache<'c>(&'c Context, pub(crate) krb5_ccache);

impl<'c> OpenCache<'c> {
    pub(crate) fn open(context: &'c Context, name: &str) -> Result<OpenCache<'c>, Failure> {
        let name = CString::new(name).unwrap_or_default();
        let mut open = ptr::null_mut();
        // SAFETY: the name outlives the call; on success `open` is a new handle.
        context.check(unsafe { krb5_cc_resolve(context.0, name.as_ptr(), &mut open) })?;
        Ok(OpenCache(context, open))
    }
}

impl Drop for OpenCache<'_> {
    fn drop(&mut self) {
        // SAFETY: made by krb5_cc_resolve and closed once.
        unsafe { krb5_cc_close(self.0.0, self.1) };
    }
}

/// Destroys a cache of the process's.
pub(crate) fn destroy_cache(context: &Context, name: &str) {
    let Ok(name) = CString::new(name) else { return };
    let mut cache = ptr::null_mut();
    // SAFETY: the name outlives the call; what it resolves to is destroyed once, which also gives the handle back.
    unsafe {
        if krb5_cc_resolve(context.0, name.as_ptr(), &mut cache) == 0 {
            krb5_cc_destroy(context.0, cache);
        }
    }
}

/// A principal of the library's, given back when it is dropped.
pub(crate) struct Named<'c>(&'c Context, pub(crate) krb5_principal);

impl Drop for Named<'_> {
    fn drop(&mut self) {
        // SAFETY: made by krb5_parse_name and given back once.
        unsafe { krb5_free_principal(self.0.0, self.1) };
    }
}

/// Reads a principal.
pub(crate) fn named<'c>(context: &'c Context, text: &str) -> Result<Named<'c>, Failure> {
    let text = CString::new(text).map_err(|_| Failure::other("a zero byte in a name"))?;
    let mut out = ptr::null_mut();
    // SAFETY: the text outlives the call; on success `out` is a new principal.
    context.check(unsafe { krb5_parse_name(context.0, text.as_ptr(), &mut out) })?;
    Ok(Named(context, out))
}
