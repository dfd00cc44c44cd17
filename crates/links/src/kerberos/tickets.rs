//! Judging what a browser shows. GSS-API decides; what it decides is then held against our own clock and our own names, and
//! explained.

use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Duration, Utc};
use passeur_core::id::sha256;
use passeur_gss::{Acceptor, Delegated, Failure, Inside, Why};
use passeur_protocols::kerberos::{Fault, Keytab, Opened, Principal, Proof, Ticket};

use super::pool::{NotRun, Pool};

/// How far clocks may differ (the usual of all implementations).
pub const SKEW: Duration = Duration::minutes(5);

/// The keys of one way in.
#[derive(Debug)]
pub struct Tickets {
    pool: Arc<Pool>,
    keys: Arc<Keytab>,
    hosts: Vec<String>,
    /// What opens tickets, or why nothing does.
    acceptor: Result<Arc<Acceptor>, String>,
}

/// A ticket that was taken.
#[derive(Debug)]
pub struct Taken {
    pub client: String,
    pub service: String,
    pub kvno: Option<u32>,
    pub enctype: i32,
    /// When the person proved to their KDC who they are.
    pub proven: DateTime<Utc>,
    /// Whether it is bound to the TLS channel it came on.
    pub bound: bool,
    /// What the browser is answered, so that it knows us too.
    pub answer: Option<Vec<u8>>,
    /// The ticket that the browser sent along, to be used for the person.
    pub delegated: Option<Delegated>,
    /// A digest of the proof: the same one is never taken twice. Until when it has to be remembered.
    pub once: ([u8; 32], DateTime<Utc>),
}

/// Why a ticket is not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotTaken {
    Fault(Fault),
    /// It is bound to another TLS channel.
    Bindings,
    /// Anything else, in the library's words.
    Other(String),
    /// It could not be judged.
    NotNow(String),
}

/// Why a name and password were not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refused {
    /// The KDC's word on the account.
    Account(Why),
    /// It could not be asked.
    NotNow(String),
}

impl From<NotRun> for NotTaken {
    fn from(e: NotRun) -> NotTaken {
        NotTaken::NotNow(e.to_string())
    }
}

impl Tickets {
    /// With the keytabs of a way in, each in base64 as it is kept, or its name where it is not; `hosts` are those as which tickets
    /// are taken.
    pub fn new<'a>(
        pool: Arc<Pool>,
        keytabs: impl IntoIterator<Item = (&'a str, Option<&'a str>)>,
        hosts: Vec<String>,
    ) -> Tickets {
        let (mut bytes, mut wrong) = (vec![5u8, 2], vec![]);
        for (name, kept) in keytabs {
            let Some(kept) = kept else {
                wrong.push(format!("secret {name} is not stored"));
                continue;
            };
            match opened(kept) {
                // One after the other, they are one keytab.
                Ok((one, _)) => bytes.extend_from_slice(one.get(2..).unwrap_or_default()),
                Err(why) => wrong.push(format!("secret {name}: {why}")),
            }
        }
        let keys = Keytab::read(&bytes).unwrap_or_default();
        let made = || -> Result<Arc<Acceptor>, String> {
            let keytab = passeur_gss::Keytab::new(&bytes).map_err(|e| e.to_string())?;
            Acceptor::new(keytab).map(Arc::new).map_err(|e| e.to_string())
        };
        // One keytab that cannot be used does not make the others useless.
        let acceptor = if keys.keys.is_empty() { Err(wrong.join("; ")) } else { made() };
        for w in wrong {
            tracing::error!(why = w, "a keytab cannot be used");
        }
        Tickets { pool, keys: Arc::new(keys), hosts, acceptor }
    }

    /// Judges a ticket and the token it came in, at a moment by our clock. `bindings` are those of the TLS channel.
    ///
    /// # Errors
    /// Why it is not taken.
    pub async fn judge(
        &self,
        ticket: Ticket,
        token: Vec<u8>,
        bindings: Option<Vec<u8>>,
        now: DateTime<Utc>,
    ) -> Result<Taken, NotTaken> {
        let acceptor = self.acceptor.clone().map_err(NotTaken::NotNow)?;
        let (keys, hosts) = (self.keys.clone(), self.hosts.clone());
        self.pool.reckon(move || judge(&acceptor, &keys, &hosts, &ticket, &token, bindings.as_deref(), now)).await?
    }

    /// Asks the KDC of a realm about a name and password. The answer is proven with our own key. Returns the principal, and the
    /// service whose key proved it.
    ///
    /// # Errors
    /// What it says of the account, or why it was not asked.
    pub async fn check_password(&self, realm: &str, principal: String, password: String) -> Result<(String, String), Refused> {
        let acceptor = self.acceptor.clone().map_err(Refused::NotNow)?;
        // A key of the person's own realm where there is one; otherwise their KDC leads on to ours.
        let ours = |p: &&&Principal| p.host().is_some_and(|h| self.hosts.iter().any(|w| w.eq_ignore_ascii_case(h)));
        let all = self.keys.principals();
        let service = all.iter().filter(ours).find(|p| p.realm == realm).or_else(|| all.iter().find(ours));
        let service = service.ok_or_else(|| Refused::NotNow("no keytab holds a key of the sign-in host".to_owned()))?.to_string();
        let by = service.clone();
        let asked = self.pool.ask(realm, move || acceptor.check_password(&principal, &password, &by)).await;
        match asked.map_err(|e| Refused::NotNow(e.to_string()))? {
            Ok(client) => Ok((client, service)),
            Err(Failure { why, words, .. }) => match why {
                Why::WrongPassword | Why::Integrity | Why::NoClient | Why::PasswordExpired | Why::Revoked | Why::Policy => {
                    Err(Refused::Account(why))
                }
                _ => Err(Refused::NotNow(words)),
            },
        }
    }
}

/// A keytab as it is kept: its bytes, and what they hold.
///
/// # Errors
/// Why it cannot be used.
pub fn opened(kept: &str) -> Result<(Vec<u8>, Keytab), String> {
    let bytes = STANDARD.decode(kept.trim()).map_err(|_| "it is no keytab in base64".to_owned())?;
    let keytab = Keytab::read(&bytes).map_err(|e| e.to_string())?;
    Ok((bytes, keytab))
}

fn judge(
    acceptor: &Acceptor,
    keys: &Keytab,
    hosts: &[String],
    ticket: &Ticket,
    token: &[u8],
    bindings: Option<&[u8]>,
    now: DateTime<Utc>,
) -> Result<Taken, NotTaken> {
    let accepted = acceptor.accept(token, bindings);
    let inside = acceptor.look_into(&ticket.der, Some((ticket.proof.0, &ticket.proof.1)));
    let times = inside.as_ref().ok().and_then(times);
    // Also where the library is content: our clock is the one that counts, and only our own names are taken.
    if let Some(fault) = Fault::of(ticket, keys, hosts, times.as_ref().map(|(t, _)| t), now, SKEW) {
        return Err(match (fault, inside) {
            // It did open: what stands against it is not the key.
            (Fault::KeyDiffers { .. }, Err(e)) if e.why == Why::Invalid => NotTaken::Other(e.words),
            (fault, _) => NotTaken::Fault(fault),
        });
    }
    let accepted = accepted.map_err(|e| match e.why {
        Why::Bindings => NotTaken::Bindings,
        _ => NotTaken::Other(e.words),
    })?;
    // Without its times nothing says how long the proof must be remembered, and it was opened a moment ago.
    let Some((times, proven)) = times else { return Err(NotTaken::Other("the ticket could not be opened twice".to_owned())) };
    let Some(made) = times.made else { return Err(NotTaken::Other("the proof could not be read".to_owned())) };
    Ok(Taken {
        client: accepted.client,
        service: accepted.service,
        kvno: ticket.kvno,
        enctype: ticket.enctype,
        proven,
        bound: accepted.bound,
        answer: accepted.answer,
        delegated: accepted.delegated,
        once: (sha256(&ticket.proof.1), made + SKEW + SKEW),
    })
}

fn times(inside: &Inside) -> Option<(Opened, DateTime<Utc>)> {
    let at = |s: i64| DateTime::from_timestamp(s, 0);
    let made = inside.proof.as_deref().and_then(Proof::read).map(|p| p.made);
    Some((Opened { starts: at(inside.starts)?, ends: at(inside.ends)?, made }, at(inside.proven)?))
}
