//! The library's own declarations, and what has to be given back to it.

#![allow(non_upper_case_globals, non_camel_case_types, non_snake_case, dead_code, clippy::all, unreachable_pub)]

include!(concat!(env!("OUT_DIR"), "/krb5.rs"));

use std::ffi::CStr;
use std::ptr;

use crate::failure::{Failure, Why};

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
