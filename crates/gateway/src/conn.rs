//! What a connection remembers from one request to the next: who came with its last cookie, and how where it comes from
//! is written for a gate. A cache of what was found out, good for one edition; whether the session is still live is asked
//! each time.

use std::cell::{Cell, RefCell};
use std::net::IpAddr;
use std::rc::{Rc, Weak};
use std::sync::Arc;
use std::task::Waker;

use http::header::{COOKIE, HOST};
use http::{HeaderMap, HeaderName, HeaderValue, Method, Uri};
use passeur_core::circumstances::RequestFacts;
use passeur_core::forwarded::{self, ProxyField, Way};
use passeur_live::clock::ticks;

use crate::admission::Admission;
use crate::bearer::{Bearer, Written};
use crate::edition::{Place, WebEdition};
use crate::fields::Fields;
use crate::listener::Places;
use crate::outgoing::From;
use crate::tls::Asks;

/// What was found out for one edition (by number) and one gate (by index).
struct Kept<T> {
    edition: i32,
    gate: usize,
    what: T,
}

impl<T> Kept<T> {
    fn of(edition: &WebEdition, place: &Place<'_>, what: T) -> Option<Kept<T>> {
        Some(Kept { edition: edition.number, gate: place.index, what })
    }

    fn get(&self, edition: &WebEdition, place: &Place<'_>) -> Option<&T> {
        ((self.edition, self.gate) == (edition.number, place.index)).then_some(&self.what)
    }
}

/// A Cookie field, the admission it meant, and what is written with it.
type Cookied = (HeaderValue, Arc<Admission>, Arc<Written>);

/// An answer that is under way: whom it is for, and how long it has waited for its reader. Bodies are not asked while their reader does
/// not read, so that the core looks.
#[derive(Default)]
pub(crate) struct Running {
    bearer: RefCell<Option<Bearer>>,
    /// Since when the reader has something to read, in ticks.
    waits: Cell<Option<i64>>,
    /// How long that was before, in milliseconds, and how many bytes were given.
    waited: Cell<i64>,
    gave: Cell<i64>,
}

/// How long a reader may keep an answer waiting in all, besides a second for each KiB that it reads; and at once.
const READER_GRACE_MS: i64 = 60_000;
const READER_STILL_MS: i64 = 600_000;

impl Running {
    /// The reader asks for more.
    pub(crate) fn asked(&self) {
        if let Some(since) = self.waits.take() {
            self.waited.set(self.waited.get() + ticks() - since);
        }
    }

    /// The reader was given bytes.
    pub(crate) fn gave(&self, bytes: usize) {
        self.gave.set(self.gave.get().saturating_add(i64::try_from(bytes).unwrap_or(i64::MAX)));
        self.waits.set(Some(ticks()));
    }

    /// Whether the reader is waited for although what they read was ended, or for too long.
    fn is_overdue(&self, now: i64) -> bool {
        let Some(since) = self.waits.get() else { return false };
        let (still, waited) = (now - since, self.waited.get() + now - since);
        let over = self.bearer.borrow().as_ref().is_some_and(Bearer::is_over);
        over || still > READER_STILL_MS || waited > READER_GRACE_MS.saturating_add(self.gave.get() / 1024 * 1000)
    }
}

/// The connection a request came on.
pub(crate) struct Conn {
    pub(crate) peer: IpAddr,
    direct: Way,
    /// The certificates that the client showed, whoever issued them.
    chain: RefCell<Arc<[Vec<u8>]>>,
    /// Which certificate the client was asked for.
    asks: RefCell<Asks>,
    /// The certificate that it was shown, where TLS ends here.
    certificate: RefCell<Option<Arc<[u8]>>>,
    admission: RefCell<Option<Kept<Cookied>>>,
    from: RefCell<Option<Kept<From>>>,
    fields: RefCell<Option<Kept<Arc<Fields>>>>,
    /// The last Host field, and the gate it meant.
    host: RefCell<Option<Kept<HeaderValue>>>,
    /// Requests that are not answered whole yet.
    running: Cell<u32>,
    under_way: RefCell<Vec<Weak<Running>>>,
    /// What it holds of the caps, until it and whatever it became have ended.
    places: RefCell<Option<Arc<Places>>>,
    /// Whether a request has come.
    served: Cell<bool>,
    /// Since when nothing runs, in ticks.
    idle_since: Cell<i64>,
    /// What the core asks of it.
    asked: Cell<Order>,
    waker: RefCell<Option<Waker>>,
}

/// What a core asks of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Order {
    Nothing,
    /// End once what runs has ended.
    Finish,
    /// End now: no request came in time.
    Close,
}

impl Conn {
    pub(crate) fn new(peer: IpAddr) -> Conn {
        Conn {
            peer,
            direct: forwarded::direct(peer),
            chain: RefCell::new(Arc::from([])),
            asks: RefCell::new(Asks::Nothing),
            certificate: RefCell::default(),
            admission: RefCell::default(),
            from: RefCell::default(),
            fields: RefCell::default(),
            host: RefCell::default(),
            running: Cell::new(0),
            under_way: RefCell::default(),
            places: RefCell::default(),
            served: Cell::new(false),
            idle_since: Cell::new(ticks()),
            asked: Cell::new(Order::Nothing),
            waker: RefCell::default(),
        }
    }

    /// Notes what the client showed of itself.
    pub(crate) fn showed(&self, chain: Vec<Vec<u8>>) {
        *self.chain.borrow_mut() = chain.into();
    }

    /// Notes which certificate it was asked for.
    pub(crate) fn was_asked(&self, asks: Asks) {
        *self.asks.borrow_mut() = asks;
    }

    /// Whether it was not asked for the certificate that a host asks for now.
    pub(crate) fn misses(&self, asks: &Asks) -> bool {
        *asks != Asks::Nothing && *self.asks.borrow() != *asks
    }

    /// Notes which certificate of ours it was shown.
    pub(crate) fn was_shown(&self, certificate: Option<Arc<[u8]>>) {
        *self.certificate.borrow_mut() = certificate;
    }

    /// The certificate of ours that whoever sent a request was shown: not where a proxy ends their TLS.
    pub(crate) fn shown_to(&self, client: IpAddr) -> Option<Arc<[u8]>> {
        self.certificate.borrow().clone().filter(|_| client == self.peer)
    }

    /// What it showed, the client's own first.
    pub(crate) fn chain(&self) -> Arc<[Vec<u8>]> {
        self.chain.borrow().clone()
    }

    /// What the core asks; whoever drives the connection registers to be woken when that changes.
    pub(crate) fn asked(&self, waker: &Waker) -> Order {
        let mut kept = self.waker.borrow_mut();
        if !kept.as_ref().is_some_and(|w| w.will_wake(waker)) {
            *kept = Some(waker.clone());
        }
        self.asked.get()
    }

    /// Asks something of the connection.
    pub(crate) fn ask(&self, what: Order) {
        self.asked.set(what);
        if let Some(w) = &*self.waker.borrow() {
            w.wake_by_ref();
        }
    }

    /// Whether nothing runs for longer than this connection may idle: before its first request, whose head must come
    /// soon, or between requests.
    pub(crate) fn is_idle(&self, first_ms: i64, between_ms: i64) -> bool {
        let limit = if self.served.get() { between_ms } else { first_ms };
        self.running.get() == 0 && ticks() - self.idle_since.get() > limit
    }

    /// A request has come; it runs until what this returns is dropped, with the last of its answer.
    pub(crate) fn runs(self: &Rc<Conn>) -> Runs {
        self.served.set(true);
        self.running.set(self.running.get() + 1);
        let running = Rc::new(Running::default());
        let mut under_way = self.under_way.borrow_mut();
        if under_way.len() == under_way.capacity() {
            under_way.retain(|w| w.strong_count() > 0);
        }
        under_way.push(Rc::downgrade(&running));
        drop(under_way);
        Runs { conn: self.clone(), running }
    }

    /// Whether a reader of it is overdue: it has to end, whatever it writes to.
    pub(crate) fn is_overdue(&self) -> bool {
        let now = ticks();
        let mut under_way = self.under_way.borrow_mut();
        under_way.retain(|w| w.strong_count() > 0);
        under_way.iter().filter_map(Weak::upgrade).any(|r| r.is_overdue(now))
    }

    /// Holds places of the caps.
    pub(crate) fn holds(&self, places: Arc<Places>) {
        *self.places.borrow_mut() = Some(places);
    }

    /// What it holds of the caps, for what it becomes.
    pub(crate) fn places(&self) -> Option<Arc<Places>> {
        self.places.borrow().clone()
    }

    /// The way a request came, as far as it can be believed.
    pub(crate) fn way(&self, edition: &WebEdition, headers: &HeaderMap) -> Way {
        match &edition.site.proxies {
            None => self.direct.clone(),
            Some(p) => forwarded::way(self.peer, p, headers.get_all(p.write.name()).iter().map(HeaderValue::as_bytes)),
        }
    }

    /// A field that says where a request came from, came by a trusted proxy, and is not the one that the site's proxies write.
    fn not_believed(&self, edition: &WebEdition, headers: &HeaderMap) -> Option<ProxyField> {
        let proxies = edition.site.proxies.as_ref().filter(|p| forwarded::is_trusted(self.peer, &p.networks))?;
        let other = proxies.write.other();
        let there = headers.contains_key(other.name());
        edition.proxied.count(headers.contains_key(proxies.write.name()), there);
        there.then_some(other)
    }

    /// How that is written for a gate's upstream.
    pub(crate) fn from(&self, edition: &WebEdition, place: &Place<'_>, headers: &HeaderMap) -> Option<From> {
        let remembered = edition.site.proxies.is_none();
        if remembered && let Some(from) = self.from.borrow().as_ref().and_then(|k| k.get(edition, place)) {
            return Some(from.clone());
        }
        let from = From::new(&self.way(edition, headers), &place.gate.address)?;
        if remembered {
            *self.from.borrow_mut() = Kept::of(edition, place, from.clone());
        }
        Some(from)
    }

    /// What the rest of the service is told of a request.
    pub(crate) fn facts(&self, edition: &WebEdition, method: &Method, uri: &Uri, headers: &HeaderMap) -> RequestFacts {
        let facts = passeur_http::facts_of(method, uri, headers, self.way(edition, headers).client());
        RequestFacts { not_believed: self.not_believed(edition, headers), ..facts }
    }

    /// The gate that the same Host field meant before, under the same edition. A target that names a host is always looked at anew.
    pub(crate) fn place<'e>(&self, edition: &'e WebEdition, uri: &Uri, headers: &HeaderMap) -> Option<Place<'e>> {
        let last = self.host.borrow();
        let kept = last.as_ref().filter(|k| k.edition == edition.number && uri.authority().is_none())?;
        (only(headers, &HOST)? == kept.what).then(|| edition.place(kept.gate))?
    }

    /// Remembers the gate that the Host field of a request means.
    pub(crate) fn remember_place(&self, edition: &WebEdition, place: &Place<'_>, headers: &HeaderMap) {
        *self.host.borrow_mut() = only(headers, &HOST).and_then(|host| Kept::of(edition, place, host.clone()));
    }

    /// What the names of a request's fields mean, where they are those of the request before as well.
    pub(crate) fn fields(&self, edition: &WebEdition, place: &Place<'_>, headers: &HeaderMap) -> Arc<Fields> {
        if let Some(last) = self.fields.borrow().as_ref().and_then(|k| k.get(edition, place))
            && last.fit(headers)
        {
            return last.clone();
        }
        let fields = Arc::new(Fields::of(headers, place.open.names()));
        *self.fields.borrow_mut() = Kept::of(edition, place, fields.clone());
        fields
    }

    /// The admission that the same Cookie field meant before, under the same edition and at the same gate.
    pub(crate) fn admission(
        &self,
        edition: &WebEdition,
        place: &Place<'_>,
        headers: &HeaderMap,
    ) -> Option<(Arc<Admission>, Arc<Written>)> {
        let last = self.admission.borrow();
        let (cookie, admission, written) = last.as_ref()?.get(edition, place)?;
        (only(headers, &COOKIE)? == cookie).then(|| (admission.clone(), written.clone()))
    }

    /// Remembers what the Cookie field of a request means.
    pub(crate) fn remember(
        &self,
        edition: &WebEdition,
        place: &Place<'_>,
        headers: &HeaderMap,
        admission: &Arc<Admission>,
        written: &Arc<Written>,
    ) {
        if let Some(cookie) = only(headers, &COOKIE) {
            *self.admission.borrow_mut() = Kept::of(edition, place, (cookie.clone(), admission.clone(), written.clone()));
        }
    }

    /// Forgets it.
    pub(crate) fn forget(&self) {
        *self.admission.borrow_mut() = None;
    }
}

/// A request that is not answered whole yet.
pub(crate) struct Runs {
    conn: Rc<Conn>,
    pub(crate) running: Rc<Running>,
}

impl Runs {
    /// Notes whom the answer is for.
    pub(crate) fn of(&self, bearer: Option<&Bearer>) {
        *self.running.bearer.borrow_mut() = bearer.cloned();
    }
}

impl Drop for Runs {
    fn drop(&mut self) {
        self.conn.running.set(self.conn.running.get().saturating_sub(1));
        self.conn.idle_since.set(ticks());
    }
}

/// A field that is there once.
fn only<'a>(headers: &'a HeaderMap, name: &HeaderName) -> Option<&'a HeaderValue> {
    let mut all = headers.get_all(name).iter();
    all.next().filter(|_| all.next().is_none())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reader_who_keeps_answers_waiting_is_overdue_and_one_who_waits_is_not() {
        let now = ticks();
        let running = |waits: Option<i64>, waited: i64, gave: i64| Running {
            bearer: RefCell::default(),
            waits: Cell::new(waits.map(|ago| now - ago)),
            waited: Cell::new(waited),
            gave: Cell::new(gave),
        };
        // Nothing is there to be read: an event stream that says nothing.
        assert!(!running(None, READER_GRACE_MS * 100, 0).is_overdue(now));
        assert!(!running(Some(READER_GRACE_MS), 0, 0).is_overdue(now));
        assert!(running(Some(READER_GRACE_MS + 1), 0, 0).is_overdue(now));
        // A megabyte a quarter of an hour is a slow line; a kilobyte is none.
        assert!(!running(Some(1), 900_000, 1 << 20).is_overdue(now));
        assert!(running(Some(1), 900_000, 1 << 10).is_overdue(now));
        assert!(running(Some(READER_STILL_MS + 1), 0, 1 << 30).is_overdue(now));
    }
}
