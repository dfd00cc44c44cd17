//! What a gate's token stands for: a live session, a decision, and the values to deliver, prepared once.

use std::num::NonZeroU32;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};

use bytes::Bytes;
use http::{HeaderName, HeaderValue};
use passeur_core::Moment;
use passeur_core::decide::Admitted;
use passeur_core::id::{CrossingId, sha256};
use passeur_core::path;
use passeur_core::person::Person;
use passeur_core::session::Lifetimes;
use passeur_live::session::LiveSession;
use tokio::sync::futures::OwnedNotified;

use crate::edition::WebEdition;
use crate::names::Names;
use crate::packed::{Contents, Packed};

/// Requests and bytes since they were last taken.
#[derive(Debug, Default)]
pub struct Counters {
    requests: AtomicU32,
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
        let out = (self.requests.swap(0, Ordering::Relaxed).into(), take(&self.bytes_in), take(&self.bytes_out));
        (out != (0, 0, 0)).then_some(out)
    }
}

/// The right to send requests to one gate's upstream, for one session under one edition: only [`Admission::new`] makes one, of what core
/// admitted. Many are kept while idle, so it is small: names belong to the edition, texts and values lie in one buffer ([`Packed`]), and
/// what few have is apart ([`Bounds`]).
#[derive(Debug)]
pub struct Admission {
    pub session: Arc<LiveSession>,
    /// The crossing in which this decision is recorded.
    pub crossing: CrossingId,
    pub counters: Counters,
    names: Arc<Names>,
    packed: Packed,
    bounds: Option<Box<Bounds>>,
    /// The millisecond from which time alone may have changed the decision; [`i64::MAX`] for none.
    good_until: i64,
    /// What the table finds it by.
    pub(crate) key: Key,
    /// One more than the session's generation when it was decided; none where it changed meanwhile, so that this counts once.
    generation: Option<NonZeroU32>,
    /// The gate lets this person in no more, whatever else the session opens.
    withdrawn: AtomicBool,
}

/// Half of a digest of what is shown for an admission and of how the request looks: enough that nobody finds another text for it (2^128
/// tries), and half as much to keep.
pub(crate) type Key = [u8; 16];

/// What an admission is good for, where that is not every request as long as its session lasts.
#[derive(Clone, Debug, Default)]
struct Bounds {
    /// How the requests look that it was decided for.
    look: u64,
    /// Paths at or below which it is good; none for all.
    paths: Option<Box<[String]>>,
    /// How long the session lasts, where that is not as long as at the gate anyhow.
    lifetimes: Option<Lifetimes>,
}

/// How an admission is kept.
#[derive(Clone, Copy, Debug)]
pub struct Filing<'a> {
    /// The digest of what is shown for it.
    pub shown: &'a [u8; 32],
    /// How the requests look that it was decided for.
    pub look: u64,
    /// The session's generation when it was decided; none where it changed meanwhile, so that this counts once.
    pub generation: Option<u32>,
    /// Lifetimes that the site, the gate and the network leave; rules may leave less.
    pub lifetimes: &'a Lifetimes,
    /// The crossing in which the decision is recorded.
    pub crossing: CrossingId,
}

impl Admission {
    /// Keeps what was decided. None when a value is no HTTP header after all, or the edition has no such gate: fails closed.
    pub fn new(session: Arc<LiveSession>, edition: &WebEdition, filing: Filing<'_>, admitted: Admitted) -> Option<Admission> {
        let names = edition.names(admitted.gate())?.clone();
        let lifetimes = Some(admitted.lifetimes(filing.lifetimes)).filter(|l| *l != names.lifetimes());
        let bounds = Bounds { look: filing.look, paths: None, lifetimes };
        let mut values = vec![None; names.set().len()];
        for d in admitted.headers() {
            HeaderValue::from_bytes(&d.value).ok()?;
            *values.get_mut(names.index(&d.name)?)? = Some(&d.value[..]);
        }
        let Person { provider, subject } = admitted.person();
        let packed = Packed::of(&Contents { provider, subject, sections: admitted.sections(), values: &values });
        Some(Admission {
            session,
            crossing: filing.crossing,
            counters: Counters::default(),
            names,
            packed,
            bounds: bounds.boxed(),
            good_until: admitted.good_until().map_or(i64::MAX, |m| m.timestamp_millis()),
            key: key(filing.shown, filing.look),
            generation: filing.generation.and_then(|g| NonZeroU32::new(g.wrapping_add(1))),
            withdrawn: AtomicBool::new(false),
        })
    }

    /// With one more value to deliver, which the gate hands over beside its delivery. None where it is no HTTP header.
    pub fn handing(mut self, name: &str, value: &[u8]) -> Option<Admission> {
        HeaderValue::from_bytes(value).ok()?;
        let place = self.names.index(name)?;
        self.packed = self.packed.read(self.names.set().len(), |contents| {
            let mut values = contents.values.to_vec();
            values[place] = Some(value);
            Packed::of(&Contents { values: &values, ..contents })
        });
        Some(self)
    }

    /// The number of the edition that it was decided under.
    pub fn edition(&self) -> i32 {
        self.names.edition()
    }

    /// The gate that it opens.
    pub fn gate(&self) -> &str {
        self.names.gate()
    }

    /// Who was admitted, as records name them: the provider and the subject.
    pub fn person(&self) -> (String, String) {
        self.packed.read(self.names.set().len(), |c| (c.provider.to_owned(), c.subject.to_owned()))
    }

    /// Whether a section of the gate, by index, lets this person in.
    pub(crate) fn section(&self, index: usize) -> bool {
        self.packed.section(index)
    }

    /// How the requests look that it was decided for.
    pub(crate) fn look(&self) -> u64 {
        self.bounds.as_ref().map_or(0, |b| b.look)
    }

    /// The moment from which time alone may have changed the decision.
    pub fn good_until(&self) -> Option<Moment> {
        // What stands for none is no moment.
        Moment::from_timestamp_millis(self.good_until)
    }

    /// How long the session lasts at this gate.
    pub(crate) fn limits(&self) -> Lifetimes {
        self.bounds.as_ref().and_then(|b| b.lifetimes).unwrap_or_else(|| self.names.lifetimes())
    }

    /// The same within the bounds of a token: until a moment, and at some paths only.
    pub fn within(mut self, until: Option<Moment>, paths: Option<Vec<String>>) -> Admission {
        let mut bounds = self.bounds.take().map(|b| *b).unwrap_or_default();
        self.good_until = self.good_until.min(until.map_or(i64::MAX, |m| m.timestamp_millis()));
        bounds.paths = paths.map(Vec::into_boxed_slice);
        self.bounds = bounds.boxed();
        self
    }

    /// The paths that it is good for, where the path of a request, without its query, is none of them in every reading.
    pub(crate) fn closes(&self, raw: &str) -> Option<&[String]> {
        let paths = self.bounds.as_ref()?.paths.as_deref()?;
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
        self.session.woken()
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
            && self.look() == look
            && now.timestamp_millis() < self.good_until
            && self.generation.is_some_and(|g| g.get() == self.session.generation().wrapping_add(1))
    }

    /// Headers to insert: written when a connection first sends a request on it, so that an idle session keeps nothing but the octets.
    pub(crate) fn headers(&self) -> Vec<(HeaderName, HeaderValue)> {
        let names = self.names.set();
        self.packed.read(names.len(), |contents| {
            let mut rest = Bytes::from(contents.values.iter().flatten().copied().collect::<Vec<_>>().concat());
            let written = names.iter().zip(contents.values).filter_map(|(name, value)| {
                let mut value = HeaderValue::from_maybe_shared(rest.split_to(value.as_ref()?.len())).ok()?;
                value.set_sensitive(true);
                Some((name.clone(), value))
            });
            written.collect()
        })
    }

    /// The names of what the gate delivers.
    pub(crate) fn names(&self) -> &Names {
        &self.names
    }

    /// What a refusal by a section is found by among what the session recorded.
    fn refusal_by(&self, section: usize) -> [u8; 32] {
        sha256(format!("{} {section}", self.crossing).as_bytes())
    }

    /// The crossing in which a refusal by a section was recorded, if it was.
    pub fn refused_by(&self, section: usize) -> Option<CrossingId> {
        self.session.crossing_of_refusal(&self.refusal_by(section))
    }

    /// Notes in which crossing a refusal by a section was recorded.
    pub fn note_refused_by(&self, section: usize, crossing: CrossingId) {
        self.session.recorded_refusal(self.refusal_by(section), crossing);
    }
}

/// The key of what is shown, by its digest, for requests that look like this.
pub(crate) fn key(shown: &[u8; 32], look: u64) -> Key {
    // Most gates ask nothing of single requests.
    let of = if look == 0 { *shown } else { sha256(&[&shown[..], &look.to_be_bytes()].concat()) };
    of[..16].try_into().unwrap_or_default()
}

impl Bounds {
    /// None where nothing bounds it.
    fn boxed(self) -> Option<Box<Bounds>> {
        (self.look != 0 || self.paths.is_some() || self.lifetimes.is_some()).then(|| Box::new(self))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// With the count of an `Arc` and the allocator's own octets it fills a block of 128 exactly.
    #[test]
    fn an_admission_stays_small() {
        assert_eq!(size_of::<Admission>(), 104);
    }
}
