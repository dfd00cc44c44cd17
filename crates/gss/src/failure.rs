//! What went wrong, told apart as far as the library does.

use std::sync::LazyLock;

use libgssapi::error::{Error, MajorFlags};

use crate::krb5;

/// A call that failed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{words}")]
pub struct Failure {
    pub why: Why,
    /// The mechanism's own code.
    pub code: i32,
    /// The library's own words.
    pub words: String,
}

impl Failure {
    /// One that no code of the library stands for.
    pub(crate) fn other(words: impl Into<String>) -> Failure {
        Failure { why: Why::Other, code: 0, words: words.into() }
    }
}

/// What failures mean (RFC 4120 7.5.9 and the library's own codes).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// Clocks differ by more than is allowed.
    Clock,
    /// The ticket is not valid yet.
    NotYet,
    /// The ticket, or a credential of ours, has expired.
    Expired,
    /// No key of that principal.
    NoKey,
    /// No key of that version.
    KeyVersion,
    /// No key of that encryption type, or one that is not allowed.
    Enctype,
    /// The key does not open it: another one of the same version, or something forged.
    Integrity,
    /// The KDC marked it as not to be used yet (RFC 4120 2.2).
    Invalid,
    /// The ticket is for somebody else.
    NotUs,
    /// It was bound to another TLS channel.
    Bindings,
    /// It is not what the standard says.
    Malformed,
    /// It was shown before.
    Replayed,
    /// The KDC does not know the person.
    NoClient,
    /// The KDC does not know the service.
    NoService,
    /// The password is wrong.
    WrongPassword,
    /// The password has to be changed first.
    PasswordExpired,
    /// The account is disabled, locked or expired.
    Revoked,
    /// The KDC's policy forbids it.
    Policy,
    /// The KDC does not do what was asked: delegation that it does not allow.
    BadOption,
    /// A ticket that may not be forwarded, or of somebody who may not be acted for.
    NotForwardable,
    /// No KDC of the realm answers.
    NoKdc,
    /// Nothing says where the realm's KDC is, or there is no way to it.
    NoRealm,
    /// krb5.conf cannot be used.
    Config,
    /// Anything else.
    Other,
}

impl Why {
    pub(crate) fn of(code: i32) -> Why {
        match code {
            krb5::KRB5KRB_AP_ERR_SKEW => Why::Clock,
            krb5::KRB5KRB_AP_ERR_TKT_NYV => Why::NotYet,
            krb5::KRB5KRB_AP_ERR_TKT_EXPIRED | krb5::KRB5KDC_ERR_NEVER_VALID => Why::Expired,
            krb5::KRB5_KT_NOTFOUND | krb5::KRB5KRB_AP_ERR_NOKEY => Why::NoKey,
            krb5::KRB5_KT_KVNONOTFOUND | krb5::KRB5KRB_AP_ERR_BADKEYVER => Why::KeyVersion,
            krb5::KRB5KDC_ERR_ETYPE_NOSUPP => Why::Enctype,
            krb5::KRB5KRB_AP_ERR_BAD_INTEGRITY | krb5::KRB5KRB_AP_ERR_MODIFIED => Why::Integrity,
            krb5::KRB5KRB_AP_ERR_TKT_INVALID => Why::Invalid,
            krb5::KRB5KRB_AP_ERR_NOT_US => Why::NotUs,
            krb5::KRB5KRB_AP_ERR_MSG_TYPE | krb5::KRB5KRB_AP_ERR_BADVERSION => Why::Malformed,
            krb5::KRB5KRB_AP_ERR_REPEAT => Why::Replayed,
            krb5::KRB5KDC_ERR_C_PRINCIPAL_UNKNOWN => Why::NoClient,
            krb5::KRB5KDC_ERR_S_PRINCIPAL_UNKNOWN => Why::NoService,
            krb5::KRB5KDC_ERR_PREAUTH_FAILED => Why::WrongPassword,
            krb5::KRB5KDC_ERR_KEY_EXP => Why::PasswordExpired,
            krb5::KRB5KDC_ERR_CLIENT_REVOKED | krb5::KRB5KDC_ERR_NAME_EXP | krb5::KRB5KDC_ERR_SERVICE_REVOKED => Why::Revoked,
            krb5::KRB5KDC_ERR_POLICY => Why::Policy,
            krb5::KRB5KDC_ERR_BADOPTION => Why::BadOption,
            krb5::KRB5_TKT_NOT_FORWARDABLE => Why::NotForwardable,
            krb5::KRB5_KDC_UNREACH => Why::NoKdc,
            krb5::KRB5_REALM_UNKNOWN | krb5::KRB5_REALM_CANT_RESOLVE | krb5::KRB5KDC_ERR_WRONG_REALM => Why::NoRealm,
            krb5::KRB5_CONFIG_CANTOPEN | krb5::KRB5_CONFIG_BADFORMAT | krb5::KRB5_CONFIG_NODEFREALM => Why::Config,
            _ => Why::Other,
        }
    }
}

/// Where a major status holds its routine error.
const ROUTINE: u32 = 0xff << 16;

impl From<Error> for Failure {
    fn from(e: Error) -> Failure {
        // GSS-API carries the mechanism's signed codes as unsigned ones.
        let code = e.minor as i32;
        let words = e.to_string().replace(char::is_control, "");
        let why = match Why::of(code) {
            // The library's glue gives codes numbers of its own where two mechanisms share one: what it says is then all there is.
            Why::Other => by_words(&words).unwrap_or(Why::Other),
            why => why,
        };
        let why = match why {
            Why::Other if e.major.contains(MajorFlags::GSS_S_DUPLICATE_TOKEN) => Why::Replayed,
            // Routine errors are a number of eight bits, not flags (RFC 2744 3.9.1).
            Why::Other => match e.major.bits() & ROUTINE {
                b if b == MajorFlags::GSS_S_BAD_BINDINGS.bits() => Why::Bindings,
                b if b == MajorFlags::GSS_S_CREDENTIALS_EXPIRED.bits() => Why::Expired,
                b if b == MajorFlags::GSS_S_DEFECTIVE_TOKEN.bits() => Why::Malformed,
                _ => Why::Other,
            },
            why => why,
        };
        // Some of the library's texts end with the zero byte that C ends them with.
        Failure { why, code, words }
    }
}

/// Codes that are told apart, by the library's own text of each.
fn by_words(words: &str) -> Option<Why> {
    static TEXTS: LazyLock<Vec<(String, Why)>> = LazyLock::new(|| {
        let Ok(context) = krb5::Context::new() else { return vec![] };
        let all = CODES.iter().map(|code| (context.failure(*code).words, Why::of(*code)));
        all.filter(|(text, why)| !text.is_empty() && *why != Why::Other).collect()
    });
    TEXTS.iter().find(|(text, _)| words.contains(text.as_str())).map(|(_, why)| *why).or_else(|| {
        // Texts that name whom they are about.
        [
            ("not found in Kerberos database", Why::NoService),
            ("Cannot contact any KDC", Why::NoKdc),
            ("Cannot find KDC", Why::NoRealm),
        ]
        .into_iter()
        .find(|(text, _)| words.contains(text))
        .map(|(_, why)| if why == Why::NoService && words.contains("Client") { Why::NoClient } else { why })
    })
}

/// What [`by_words`] looks for.
const CODES: &[i32] = &[
    krb5::KRB5KRB_AP_ERR_SKEW,
    krb5::KRB5KRB_AP_ERR_TKT_NYV,
    krb5::KRB5KRB_AP_ERR_TKT_EXPIRED,
    krb5::KRB5_KT_NOTFOUND,
    krb5::KRB5_KT_KVNONOTFOUND,
    krb5::KRB5KDC_ERR_ETYPE_NOSUPP,
    krb5::KRB5KRB_AP_ERR_BAD_INTEGRITY,
    krb5::KRB5KRB_AP_ERR_MODIFIED,
    krb5::KRB5KRB_AP_ERR_NOT_US,
    krb5::KRB5KRB_AP_ERR_REPEAT,
    krb5::KRB5KDC_ERR_C_PRINCIPAL_UNKNOWN,
    krb5::KRB5KDC_ERR_S_PRINCIPAL_UNKNOWN,
    krb5::KRB5KDC_ERR_PREAUTH_FAILED,
    krb5::KRB5KDC_ERR_KEY_EXP,
    krb5::KRB5KDC_ERR_CLIENT_REVOKED,
    krb5::KRB5KDC_ERR_NAME_EXP,
    krb5::KRB5KDC_ERR_POLICY,
    krb5::KRB5KDC_ERR_BADOPTION,
    krb5::KRB5_TKT_NOT_FORWARDABLE,
    krb5::KRB5_KDC_UNREACH,
    krb5::KRB5_REALM_UNKNOWN,
    krb5::KRB5_REALM_CANT_RESOLVE,
    krb5::KRB5_CONFIG_CANTOPEN,
    krb5::KRB5_CONFIG_BADFORMAT,
];
