//! What a gate's token stands for: a live session, a decision, and the values to deliver, prepared once.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use http::{HeaderName, HeaderValue};
use passeur_core::Moment;
use passeur_core::decide::{Admitted, Entry};
use passeur_core::id::CrossingId;
use passeur_core::path;
use passeur_core::session::Lifetimes;
use passeur_live::session::LiveSession;
use tokio::sync::futures::OwnedNotified;

use crate::edition::WebEdition;
use crate::names::Names;

/// Requests and bytes since they were last taken.
#[derive(Debug, Default)]
pub struct Counters {
    requests: AtomicU64,
    bytes_in: AtomicU64,
    bytes_out: AtomicU64,
}

impl Counters {
    pub(crate) fn request(&self) {
        self.requests.fetch_add(1, Ordering::Relaxed);
    }
    pub(crate) fn received(&self, n: u64) {
        self.bytes_in.fetch_add(n, Ordering::Relaxed);
    }
    pub(crate) fn sent(&self, n: u64) {
        self.bytes_out.fetch_add(n, Ordering::Relaxed);
    }

    /// Requests, bytes from and bytes to the person; the counters start again.
    pub fn take(&self) -> Option<(u64, u64, u64)> {
        let take = |c: &AtomicU64| c.swap(0, Ordering::Relaxed);
        let out = (take(&self.requests), take(&self.bytes_in), take(&self.bytes_out));
        (out != (0, 0, 0)).then_some(out)
    }
}

/// The right to send requests to one gate's upstream, for one session under one edition. Many are kept while idle, so it
/// is small: the names of what is delivered belong to the edition, and the values lie in one buffer.
#[derive(Debug)]
pub struct Admission {
    pub session: Arc<LiveSession>,
    pub edition: i32,
    /// How the requests look that it was decided for.
    pub look: u64,
    /// The moment from which time alone may have changed the decision.
    pub good_until: Option<Moment>,
    /// The session's generation when it was decided; none where it changed meanwhile, so that this counts once.
    generation: Option<u32>,
    pub entry: Entry,
    /// How long the session lasts at this gate.
    pub limits: Lifetimes,
    /// The crossing in which this decision is recorded.
    pub crossing: CrossingId,
    pub counters: Counters,
    names: Arc<Names>,
    /// Delivered values, one after the other.
    values: Box<[u8]>,
    /// For each of them its name's place among the names, and where it ends.
    ends: Box<[(u16, u32)]>,
    told: Mutex<Vec<(usize, CrossingId)>>,
    /// Paths at or below which it is good; none for all.
    paths: Option<Box<[String]>>,
    /// The gate lets this person in no more, whatever else the session opens.
    withdrawn: AtomicBool,
}

impl Admission {
    /// Prepares the delivered values. None when one of them is no HTTP header after all, or the edition has no such gate:
    /// fails closed.
    pub fn new(
        session: Arc<LiveSession>,
        edition: &WebEdition,
        look: u64,
        generation: Option<u32>,
        admitted: Admitted,
        crossing: CrossingId,
    ) -> Option<Admission> {
        let good_until = admitted.good_until();
        let (entry, delivered) = admitted.into_parts();
        let names = edition.names(entry.gate())?.clone();
        let mut values = Vec::with_capacity(delivered.iter().map(|d| d.value.len()).sum());
        let mut ends = Vec::with_capacity(delivered.len());
        for d in &delivered {
            HeaderValue::from_bytes(&d.value).ok()?;
            values.extend_from_slice(&d.value);
            ends.push((u16::try_from(names.index(&d.name)?).ok()?, u32::try_from(values.len()).ok()?));
        }
        Some(Admission {
            session,
            edition: edition.number,
            look,
            good_until,
            generation,
            limits: entry.lifetimes(&edition.site.lifetimes),
            entry,
            crossing,
            counters: Counters::default(),
            names,
            values: values.into(),
            ends: ends.into(),
            told: Mutex::default(),
            paths: None,
            withdrawn: AtomicBool::new(false),
        })
    }

    /// With one more value to deliver, which the gate hands over beside its delivery. None where it is no HTTP header.
    pub fn handing(mut self, name: &str, value: &[u8]) -> Option<Admission> {
        HeaderValue::from_bytes(value).ok()?;
        let place = u16::try_from(self.names.index(name)?).ok()?;
        let mut values = std::mem::take(&mut self.values).into_vec();
        let mut ends = std::mem::take(&mut self.ends).into_vec();
        values.extend_from_slice(value);
        ends.push((place, u32::try_from(values.len()).ok()?));
        (self.values, self.ends) = (values.into(), ends.into());
        Some(self)
    }

    /// With the lifetimes that the gate and the network leave, of which the rules may have left less.
    pub fn limited(mut self, around: &Lifetimes) -> Admission {
        self.limits = self.entry.lifetimes(around);
        self
    }

    /// The same within the bounds of a token: until a moment, and at some paths only.
    pub fn within(mut self, until: Option<Moment>, paths: Option<Vec<String>>) -> Admission {
        self.good_until = match (self.good_until, until) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
        self.paths = paths.map(Vec::into_boxed_slice);
        self
    }

    /// The paths that it is good for, where the path of a request, without its query, is none of them in every reading.
    pub(crate) fn closes(&self, raw: &str) -> Option<&[String]> {
        let paths = self.paths.as_deref()?;
        (!paths.iter().any(|p| path::is_plainly_below(raw, p))).then_some(paths)
    }

    /// Takes the admission back: what is open on it is cut, and the session lives on.
    pub fn withdraw(&self) {
        self.withdrawn.store(true, Ordering::Release);
        self.session.wake_holders();
    }

    /// Whether nothing may be sent or received on it any more.
    pub fn is_over(&self) -> bool {
        self.session.is_ended() || self.withdrawn.load(Ordering::Acquire)
    }

    /// Ready once something of its session was ended or withdrawn after this was made and polled; read
    /// [`Admission::is_over`] as well.
    pub(crate) fn when_over(&self) -> OwnedNotified {
        self.session.woken_owned()
    }

    /// Returns when it is over.
    pub(crate) async fn until_over(&self) {
        loop {
            let wait = self.session.woken();
            if self.is_over() {
                return;
            }
            wait.await;
        }
    }

    /// Whether it was decided for requests that look like this, and time has not changed it.
    pub(crate) fn fits(&self, look: u64, now: Moment) -> bool {
        !self.withdrawn.load(Ordering::Acquire)
            && self.look == look
            && self.good_until.is_none_or(|until| now < until)
            && self.generation == Some(self.session.generation())
    }

    /// Headers to insert: written when a request asks, so that an idle session keeps nothing but the bytes.
    pub(crate) fn headers(&self) -> impl Iterator<Item = (&HeaderName, HeaderValue)> {
        let mut rest = Bytes::copy_from_slice(&self.values);
        let mut from = 0;
        self.ends.iter().filter_map(move |(name, end)| {
            let value = rest.split_to((*end - from) as usize);
            from = *end;
            let mut value = HeaderValue::from_maybe_shared(value).ok()?;
            value.set_sensitive(true);
            Some((self.names.set().get(usize::from(*name))?, value))
        })
    }

    /// How many headers that is.
    pub(crate) fn count(&self) -> usize {
        self.ends.len()
    }

    /// Whether a client's header of this name could be taken for a delivered one.
    pub(crate) fn strips(&self, name: &HeaderName) -> bool {
        self.names.strips(name)
    }

    /// The crossing in which a refusal by a section was told, if it was.
    pub fn told(&self, section: usize) -> Option<CrossingId> {
        self.told.lock().unwrap_or_else(|e| e.into_inner()).iter().find(|(i, _)| *i == section).map(|(_, id)| *id)
    }

    /// Notes in which crossing a refusal by a section was told.
    pub fn tell(&self, section: usize, crossing: CrossingId) {
        self.told.lock().unwrap_or_else(|e| e.into_inner()).push((section, crossing));
    }
}
