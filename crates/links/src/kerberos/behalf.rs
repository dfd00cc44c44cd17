//! Tickets for applications, as people: what an account of ours asks for on their behalf, or what their own browser sent along.

use std::sync::Arc;

use passeur_core::site::realm_of;
use passeur_gss::{Account, Delegated, Delegation, Failure, Shown, Why};

use super::pool::{NotRun, Pool};
use super::tickets::opened;

/// An account of ours that acts for people.
#[derive(Debug)]
pub struct Behalf {
    pool: Arc<Pool>,
    /// The account, or why there is none.
    account: Result<Arc<Account>, String>,
    principal: String,
}

/// Why there is no ticket.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoTicket {
    /// The KDC does not let our account delegate to that service.
    NotAllowed,
    /// Our account may act for nobody.
    Account,
    /// The person may not be delegated.
    Person,
    /// Their account is disabled, locked or expired.
    Revoked,
    /// The KDC does not know them.
    Nobody,
    /// It does not know the service.
    NoService,
    /// Our own account cannot sign in.
    Own(String),
    /// No KDC answers.
    Silent(String),
    /// Anything else.
    Failed(String),
}

impl From<NotRun> for NoTicket {
    fn from(e: NotRun) -> NoTicket {
        NoTicket::Silent(e.to_string())
    }
}

impl Behalf {
    /// With an account, and its keytab in base64 as it is kept, the one in use first.
    pub fn new(pool: Arc<Pool>, principal: String, keytabs: &[String]) -> Behalf {
        let made = || -> Result<Arc<Account>, String> {
            let kept = keytabs.first().ok_or("its keytab is not stored")?;
            let keytab = passeur_gss::Keytab::new(&opened(kept)?.0).map_err(|e| e.to_string())?;
            Ok(Arc::new(Account::new(principal.clone(), keytab)))
        };
        Behalf { account: made(), principal, pool }
    }

    /// The account's principal.
    pub fn principal(&self) -> &str {
        &self.principal
    }

    /// Acts for a person, and gets a ticket for a service as them: the first of several.
    ///
    /// # Errors
    /// Why not, told apart as far as the KDC lets it be.
    pub async fn first(&self, person: &str, service: &str) -> Result<(Arc<Delegation>, Shown), NoTicket> {
        let account = self.account.clone().map_err(NoTicket::Own)?;
        let (person, service) = (person.to_owned(), service.to_owned());
        self.pool.ask(realm_of(&self.principal), move || first(&account, &person, &service)).await?
    }
}

/// A ticket for a service as somebody whose delegation is kept; the KDC is asked for it.
///
/// # Errors
/// Why there is none.
pub async fn next(pool: &Pool, delegation: Arc<Delegation>, service: &str) -> Result<Shown, NoTicket> {
    pool.ask(realm_of(service), token(delegation, service)).await?
}

/// The same where a ticket for this service was had before: nobody is asked.
///
/// # Errors
/// Why there is none.
pub async fn next_kept(pool: &Pool, delegation: Arc<Delegation>, service: &str) -> Result<Shown, NoTicket> {
    pool.reckon(token(delegation, service)).await?
}

fn token(delegation: Arc<Delegation>, service: &str) -> impl FnOnce() -> Result<Shown, NoTicket> + Send + 'static {
    let service = service.to_owned();
    move || delegation.token(&service).map_err(|e| plain(&e))
}

/// What a browser sent along, as that person's.
///
/// # Errors
/// When it is not theirs, or cannot be used.
pub async fn forwarded(pool: &Pool, sent: Delegated, person: String) -> Result<Delegation, String> {
    pool.reckon(move || sent.of(&person)).await.map_err(|e| e.to_string())?.map_err(|e| e.words)
}

fn first(account: &Account, person: &str, service: &str) -> Result<(Arc<Delegation>, Shown), NoTicket> {
    let delegation = account.act_for(person).map_err(|e| of_account(account, &e))?;
    match delegation.token(service) {
        Ok(shown) => Ok((Arc::new(delegation), shown)),
        Err(e) if matches!(e.why, Why::BadOption | Why::NotForwardable) => Err(match account.may_act_for(person) {
            // One word of the KDC for three things: whether what it gives may be forwarded tells the first from the others, and
            // whether that is so for the service itself, which is somebody too, our account from the person.
            Ok(true) => NoTicket::NotAllowed,
            Ok(false) if account.may_act_for(service).unwrap_or(false) => NoTicket::Person,
            Ok(false) => NoTicket::Account,
            Err(e) => plain(&e),
        }),
        Err(e) => Err(plain(&e)),
    }
}

/// What went wrong before there was a ticket of the person's: with us, or with them.
fn of_account(account: &Account, e: &Failure) -> NoTicket {
    if matches!(e.why, Why::NoKdc | Why::NoRealm | Why::Config) {
        return NoTicket::Silent(e.words.clone());
    }
    match account.sign_in() {
        Err(own) => NoTicket::Own(own.words),
        // No service was asked for yet: it is the person's realm that our KDC finds no way to.
        Ok(()) if e.why == Why::NoService => NoTicket::Nobody,
        Ok(()) => plain(e),
    }
}

fn plain(e: &Failure) -> NoTicket {
    match e.why {
        Why::BadOption => NoTicket::NotAllowed,
        Why::NotForwardable => NoTicket::Account,
        Why::Revoked => NoTicket::Revoked,
        Why::NoClient => NoTicket::Nobody,
        Why::NoService => NoTicket::NoService,
        Why::NoKdc | Why::NoRealm | Why::Config => NoTicket::Silent(e.words.clone()),
        _ => NoTicket::Failed(e.words.clone()),
    }
}
