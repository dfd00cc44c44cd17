//! A person's own password: their entry is found by the service account, and then bound on a connection of its own, which is
//! closed afterwards. A bind changes who a connection is, so look-ups never share one with it.

use ldap3::Ldap;
use ldap3::controls::{Control, RawControl};
use passeur_core::Moment;
use passeur_core::evidence::LookUpState;

use super::connect::{LinkError, limit, open, result_words};
use super::query::Query;
use super::servers::{Server, order};
use super::{DirectoryLink, connect, kept, person};

/// Asks for, and tells of, the state of a password (draft-behera-ldap-password-policy-10, 6).
const PASSWORD_POLICY: &str = "1.3.6.1.4.1.42.2.27.8.5.1";
/// The longest password that is sent on, in bytes.
const PASSWORD_MAX: usize = 1_024;

/// Somebody whose password was right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    pub dn: String,
    /// The value of the directory's key, as the entry spells it.
    pub key: String,
    /// The person's key: text, or hexadecimal digits where the directory keeps bytes.
    pub subject: String,
}

/// Why a password does not let somebody in.
#[derive(Clone, Debug, PartialEq)]
pub enum NotBound {
    /// No entry, or several, by that name.
    NoPerson(LookUpState),
    /// The password is wrong.
    Wrong { dn: String },
    /// The password, or the account, may not be used, whether or not it was right: what the directory says.
    Unusable { dn: String, why: Unusable, detail: String },
    /// The entry does not hold exactly one value of the attribute that is to be the person's key.
    NoSubject { dn: String },
    /// The directory did not answer, or refused our own account.
    NotNow(LookUpState),
}

/// What a directory says of an account that may not sign in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unusable {
    Disabled,
    Expired,
    Locked,
    PasswordExpired,
    MustChange,
    NotNow,
}

impl Unusable {
    /// The code of the reason.
    pub fn code(self) -> &'static str {
        match self {
            Unusable::Disabled => "account-disabled",
            Unusable::Expired => "account-expired",
            Unusable::Locked => "account-locked",
            Unusable::PasswordExpired => "password-expired",
            Unusable::MustChange => "password-must-change",
            Unusable::NotNow => "account-not-now",
        }
    }
}

impl DirectoryLink {
    /// Whether a password belongs to a name. `subject` is the attribute that is the person's key.
    ///
    /// # Errors
    /// Each way in which it does not has its own words; none of them is for the person to read.
    pub async fn check_password(&self, name: &str, password: &str, subject: &str, now: Moment) -> Result<Bound, NotBound> {
        // An empty password is an unauthenticated bind, which servers answer with success (RFC 4513 5.1.2).
        if name.trim().is_empty() || password.is_empty() || password.len() > PASSWORD_MAX {
            return Err(NotBound::NoPerson(LookUpState::NoEntry));
        }
        let mut last = LookUpState::Dead { detail: "no server is named".into() };
        for server in order(&self.servers, now) {
            let whole = limit(&self.directory) * 2;
            let asked = tokio::time::timeout(whole, self.check_at(server, name, password, subject, now)).await;
            let detail = match asked {
                Ok(Err(LinkError::Dead(detail))) => detail,
                Ok(Err(e)) => return Err(NotBound::NotNow(e.state())),
                Ok(Ok(answer)) => {
                    server.answered(now);
                    return answer;
                }
                Err(_) => {
                    // What hangs once would hang for the next as well.
                    *server.connection.lock().await = None;
                    "no answer within the time limit".into()
                }
            };
            server.failed(&detail, now);
            last = LookUpState::Dead { detail };
        }
        Err(NotBound::NotNow(last))
    }

    async fn check_at(
        &self,
        server: &Server,
        name: &str,
        password: &str,
        subject: &str,
        now: Moment,
    ) -> Result<Result<Bound, NotBound>, LinkError> {
        let mut held = kept(server).await;
        let found = loop {
            let was_held = held.is_some();
            let ldap = match held.take() {
                Some(ldap) => ldap,
                None => self.connect(server).await?,
            };
            match person::find_one(&mut Query::new(ldap, &self.directory, &self.passwords), name, &[subject]).await {
                // A kept connection may have been closed by the other side: once more, on a new one.
                Err(LinkError::Dead(_)) if was_held => *server.connection.lock().await = None,
                Err(e) => {
                    *server.connection.lock().await = None;
                    return Err(e);
                }
                Ok(found) => break found,
            }
        };
        let raw = match found {
            Ok(raw) => raw,
            Err(state) => return Ok(Err(NotBound::NoPerson(state))),
        };
        let dn = raw.dn.clone();
        let own = open(&self.directory, &server.address).await?;
        let answer = bind_as(own, &self.directory, &dn, password).await?;
        if let Some((why, detail)) = answer {
            return Ok(Err(match why {
                None => NotBound::Wrong { dn },
                Some(why) => NotBound::Unusable { dn, why, detail },
            }));
        }
        // The password is right; what the entry says of the account counts as well.
        if let Some(detail) = person::unusable(&raw, now) {
            let why = if detail.contains("Locked") { Unusable::Locked } else { Unusable::Disabled };
            return Ok(Err(NotBound::Unusable { dn, why, detail }));
        }
        let key = raw.texts(&self.directory.key).into_iter().find(|v| v.to_lowercase() == name.trim().to_lowercase());
        Ok(match (key, subject_of(&raw.attributes, subject)) {
            (Some(key), Some(subject)) => Ok(Bound { dn, key, subject }),
            _ => Err(NotBound::NoSubject { dn }),
        })
    }
}

/// Exactly one value, as text or in hexadecimal digits.
fn subject_of(attributes: &std::collections::BTreeMap<String, Vec<Vec<u8>>>, name: &str) -> Option<String> {
    let [only] = attributes.get(&name.to_ascii_lowercase())?.as_slice() else { return None };
    let text = String::from_utf8(only.clone()).ok().filter(|t| !t.is_empty() && t.chars().all(|c| !c.is_control()));
    (!only.is_empty() && only.len() <= 256).then(|| text.unwrap_or_else(|| passeur_core::id::hex(only)))
}

/// Binds as the person. None where the password is right and may be used; a reason, or that it is wrong.
async fn bind_as(
    mut ldap: Ldap,
    directory: &passeur_core::site::Directory,
    dn: &str,
    password: &str,
) -> Result<Option<(Option<Unusable>, String)>, LinkError> {
    let ask = RawControl { ctype: PASSWORD_POLICY.into(), crit: false, val: None };
    let result = ldap.with_timeout(limit(directory)).with_controls(vec![ask]).simple_bind(dn, password).await?;
    let policy = result
        .ctrls
        .iter()
        .find_map(|Control(_, raw)| if raw.ctype == PASSWORD_POLICY { policy_error(raw.val.as_deref()?) } else { None });
    let words = result_words(result.rc, &result.text);
    let _ = ldap.unbind().await;
    Ok(match result.rc {
        // A right password that must be changed first lets nobody do anything else.
        0 => policy.map(|why| (Some(why), "the password policy says so".to_owned())),
        49 => Some((policy.or_else(|| by_diagnostic(&result.text)), words)),
        53 | 19 => Some((Some(policy.unwrap_or(Unusable::NotNow)), words)),
        32 | 34 | 48 => Some((None, words)),
        code => return Err(connect::of_result(code, words)),
    })
}

/// The error in a password policy response: SEQUENCE of warning `[0]` and error `[1]`, both optional.
fn policy_error(value: &[u8]) -> Option<Unusable> {
    let (0x30, mut rest, []) = element(value)? else { return None };
    while !rest.is_empty() {
        let (tag, content, after) = element(rest)?;
        if let (0x81, [code]) = (tag, content) {
            return match code {
                0 => Some(Unusable::PasswordExpired),
                1 => Some(Unusable::Locked),
                2 => Some(Unusable::MustChange),
                _ => None,
            };
        }
        rest = after;
    }
    None
}

/// Tag, content and what follows of a BER element with a short length (X.690 8.1): none here is longer.
fn element(bytes: &[u8]) -> Option<(u8, &[u8], &[u8])> {
    let (tag, rest) = bytes.split_first()?;
    let (length, rest) = rest.split_first()?;
    let length = usize::from(*length);
    (length < 0x80 && length <= rest.len()).then(|| (*tag, &rest[..length], &rest[length..]))
}

/// Some directories say it in the diagnostic message alone, as `data` and a code of their system in hexadecimal digits.
fn by_diagnostic(text: &str) -> Option<Unusable> {
    let code = text.split("data ").nth(1)?.split([',', ' ']).next()?;
    match code {
        "533" => Some(Unusable::Disabled),
        "701" => Some(Unusable::Expired),
        "775" => Some(Unusable::Locked),
        "532" => Some(Unusable::PasswordExpired),
        "773" => Some(Unusable::MustChange),
        "530" | "531" => Some(Unusable::NotNow),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_password_policy_says_is_read_and_nothing_else() {
        for (bytes, why) in [
            (&[0x30, 3, 0x81, 1, 1][..], Some(Unusable::Locked)),
            (&[0x30, 3, 0x81, 1, 0], Some(Unusable::PasswordExpired)),
            (&[0x30, 8, 0xa0, 3, 0x80, 1, 5, 0x81, 1, 2], Some(Unusable::MustChange)),
            (&[0x30, 5, 0xa0, 3, 0x80, 1, 5], None),
            (&[0x30, 0], None),
            (&[0x30, 3, 0x81, 1], None),
            (&[0x30, 0x84, 0, 0, 0, 3, 0x81, 1, 1], None),
            (&[0x30, 3, 0x81, 1, 9], None),
            (&[0x30, 3, 0x81, 1, 1, 0], None),
            (&[], None),
        ] {
            assert_eq!(policy_error(bytes), why, "{bytes:02x?}");
        }
    }

    #[test]
    fn a_diagnostic_message_tells_what_the_result_code_does_not() {
        let says = |code: &str| by_diagnostic(&format!("80090308: comment: AcceptSecurityContext error, data {code}, v4563"));
        assert_eq!(says("533"), Some(Unusable::Disabled));
        assert_eq!(says("775"), Some(Unusable::Locked));
        assert_eq!(says("52e"), None);
        assert_eq!(by_diagnostic("Invalid credentials"), None);
        assert_eq!(by_diagnostic("data "), None);
    }
}
