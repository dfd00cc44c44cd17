//! What a ticket holds, opened with our own keys: by it a refusal can say how far clocks are apart, or since when a ticket is over.

use std::os::raw::{c_char, c_uint};
use std::ptr;

use crate::failure::Failure;
use crate::keytab::Keytab;
use crate::krb5::{self, Context};

/// Key usage of an AP-REQ's Authenticator (RFC 4120 7.5.1).
const AUTHENTICATOR: krb5::krb5_keyusage = 11;
/// The longest proof that is looked at, in bytes.
const PROOF_MAX: usize = 64 << 10;

/// The inside of a ticket (EncTicketPart, RFC 4120 5.3). Times are seconds since 1970.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inside {
    /// Whose it is.
    pub client: String,
    /// When they proved to the KDC who they are.
    pub proven: i64,
    pub starts: i64,
    pub ends: i64,
    /// The Authenticator as it was encrypted (RFC 4120 5.5.1), in DER; none where it does not open.
    pub proof: Option<Vec<u8>>,
}

/// A ticket of the library's, given back when it is dropped.
struct Ticket<'c>(&'c Context, *mut krb5::krb5_ticket);

impl Drop for Ticket<'_> {
    fn drop(&mut self) {
        // SAFETY: made by krb5_decode_ticket and given back once.
        unsafe { krb5::krb5_free_ticket(self.0.0, self.1) };
    }
}

fn data(bytes: &[u8]) -> krb5::krb5_data {
    krb5::krb5_data {
        magic: 0,
        length: c_uint::try_from(bytes.len()).unwrap_or_default(),
        data: bytes.as_ptr().cast_mut().cast::<c_char>(),
    }
}

pub(crate) fn look(keytab: &Keytab, ticket: &[u8], proof: Option<(i32, &[u8])>) -> Result<Inside, Failure> {
    let context = Context::new()?;
    let mut raw = ptr::null_mut();
    let bytes = data(ticket);
    // SAFETY: the bytes outlive the call, which copies them; on success `raw` is a new ticket.
    context.check(unsafe { krb5::krb5_decode_ticket(&bytes, &mut raw) })?;
    let ticket = Ticket(&context, raw);
    let keys = keytab.open(&context)?;
    // SAFETY: both are live and ours.
    context.check(unsafe { krb5::krb5_server_decrypt_ticket_keytab(context.0, keys.1, ticket.1) })?;
    // SAFETY: after a success enc_part2 points at what was decrypted, which lives as long as the ticket.
    let part = unsafe { &*(*ticket.1).enc_part2 };
    let client = context.displayed(part.client)?;
    let times = &part.times;
    let starts = if times.starttime == 0 { times.authtime } else { times.starttime };
    let seconds = |t: krb5::krb5_timestamp| i64::from(t as u32);
    let proof = proof.filter(|(_, cipher)| cipher.len() <= PROOF_MAX).and_then(|(enctype, cipher)| {
        let mut out = vec![0u8; cipher.len()];
        let from = krb5::krb5_enc_data { magic: 0, enctype, kvno: 0, ciphertext: data(cipher) };
        let mut to = data(&out);
        to.data = out.as_mut_ptr().cast();
        // SAFETY: the session key lives with the ticket; `out` is as long as the ciphertext, which the call asks for.
        let code = unsafe { krb5::krb5_c_decrypt(context.0, part.session, AUTHENTICATOR, ptr::null(), &from, &mut to) };
        let length = usize::try_from(to.length).unwrap_or_default();
        (code == 0 && length <= out.len()).then(|| {
            out.truncate(length);
            out
        })
    });
    Ok(Inside { client, proven: seconds(times.authtime), starts: seconds(starts), ends: seconds(times.endtime), proof })
}
