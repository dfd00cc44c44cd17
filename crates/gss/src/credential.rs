//! Credentials that name every store of theirs, so that no default of the process is ever used.

use std::ffi::CString;
use std::ptr;

use libgssapi::credential::Cred;
use libgssapi::error::{Error, MajorFlags};
use libgssapi::name::Name;
use libgssapi::oid::{GSS_MECH_KRB5, GSS_MECH_SPNEGO, GSS_NT_KRB5_PRINCIPAL, Oid};
use libgssapi_sys::{
    _GSS_C_INDEFINITE, GSS_C_ACCEPT, GSS_C_INITIATE, GSS_S_COMPLETE, OM_uint32, gss_OID_desc, gss_OID_set_desc,
    gss_acquire_cred_from, gss_cred_id_t, gss_cred_usage_t, gss_key_value_element_desc, gss_key_value_set_desc, gss_name_t,
};

use crate::failure::Failure;

/// What a credential is for.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Use {
    Accept,
    Initiate,
}

/// Acquires a credential of both mechanisms from what `store` names: for a principal, or for whichever it holds.
pub(crate) fn acquire(principal: Option<&str>, used: Use, store: &[(&str, &str)]) -> Result<Cred, Failure> {
    let texts: Option<Vec<(CString, CString)>> =
        store.iter().map(|(k, v)| Some((CString::new(*k).ok()?, CString::new(*v).ok()?))).collect();
    let texts = texts.ok_or_else(|| Failure::other("a name holds a zero byte"))?;
    let mut elements: Vec<gss_key_value_element_desc> =
        texts.iter().map(|(k, v)| gss_key_value_element_desc { key: k.as_ptr(), value: v.as_ptr() }).collect();
    let count = OM_uint32::try_from(elements.len()).unwrap_or_default();
    let set = gss_key_value_set_desc { count, elements: elements.as_mut_ptr() };
    let mut oids = [described(&GSS_MECH_SPNEGO), described(&GSS_MECH_KRB5)];
    let mut mechanisms = gss_OID_set_desc { count: oids.len(), elements: oids.as_mut_ptr() };
    let usage = match used {
        Use::Accept => GSS_C_ACCEPT,
        Use::Initiate => GSS_C_INITIATE,
    };
    let (mut minor, mut out): (OM_uint32, gss_cred_id_t) = (0, ptr::null_mut());
    let name = principal.map(import).transpose()?;
    // SAFETY: every pointer lies in a local that outlives the call; the library copies what it keeps.
    let major = unsafe {
        gss_acquire_cred_from(
            &mut minor,
            name.as_ref().map_or(ptr::null_mut(), |r| r.0),
            _GSS_C_INDEFINITE,
            &mut mechanisms,
            usage as gss_cred_usage_t,
            &set,
            &mut out,
            ptr::null_mut(),
            ptr::null_mut(),
        )
    };
    if major != GSS_S_COMPLETE {
        return Err(Error { major: MajorFlags::from_bits_retain(major), minor }.into());
    }
    // SAFETY: just acquired, owned by nobody else.
    Ok(unsafe { Cred::from_c(out) })
}

/// A name as the library displays it.
pub(crate) fn displayed(name: &Name) -> Result<String, Failure> {
    Ok(String::from_utf8_lossy(&name.display_name()?).into_owned())
}

fn described(oid: &Oid<'static>) -> gss_OID_desc {
    gss_OID_desc { length: OM_uint32::try_from(oid.len()).unwrap_or_default(), elements: oid.as_ptr().cast_mut().cast() }
}

/// A name of our own, given back when it is dropped.
struct RawName(gss_name_t);

impl Drop for RawName {
    fn drop(&mut self) {
        let mut minor = 0;
        // SAFETY: imported by gss_import_name and given back once.
        unsafe { libgssapi_sys::gss_release_name(&mut minor, &mut self.0) };
    }
}

fn import(text: &str) -> Result<RawName, Failure> {
    let mut buffer = libgssapi_sys::gss_buffer_desc { length: text.len(), value: text.as_ptr().cast_mut().cast() };
    let mut kind = described(&GSS_NT_KRB5_PRINCIPAL);
    let (mut minor, mut out): (OM_uint32, gss_name_t) = (0, ptr::null_mut());
    // SAFETY: buffer and kind outlive the call; the library copies both.
    let major = unsafe { libgssapi_sys::gss_import_name(&mut minor, &mut buffer, &mut kind, &mut out) };
    match major {
        GSS_S_COMPLETE => Ok(RawName(out)),
        major => Err(Error { major: MajorFlags::from_bits_retain(major), minor }.into()),
    }
}
