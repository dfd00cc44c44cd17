//! What authorities of devices' certificates said of late, in this node's memory: lists of what they took back, and answers about one certificate.
//!
//! One question at a time goes to an address, in three seconds; what did not answer is left alone for half a minute. What was said counts for as long as
//! its authority said itself, and is asked for anew after [`ASKED_MINUTES`].

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Duration;

use passeur_core::Moment;
use passeur_core::device::ASKED_MINUTES;
use passeur_core::id::sha256;
use passeur_links::http::Client;
use passeur_links::revocation::{self, List, Word};

/// How long one answer may take, and how large a list and an answer may be.
const LIMIT: Duration = Duration::from_secs(3);
const LIST_MAX: usize = 16 * 1024 * 1024;
const ANSWER_MAX: usize = 64 * 1024;
/// For how long an address is left alone that did not answer.
const REST: chrono::Duration = chrono::Duration::seconds(30);
/// The most lists and answers that are kept: what a site names, and certificates that were good.
const LISTS_MAX: usize = 600;
const ANSWERS_MAX: usize = 20_000;

/// What was heard of late, or that nothing was.
type Heard<T> = Option<(Moment, Result<T, String>)>;
/// The same, with room for one who asks.
type Slot<T> = Arc<tokio::sync::Mutex<Heard<T>>>;
/// What is kept, by what was asked.
type Kept<K, T> = Mutex<HashMap<K, Slot<T>>>;
/// An address, and an authority by the SHA-256 of its certificate.
type ListOf = (String, [u8; 32]);
/// The same, with the serial number of a certificate.
type AnswerOf = (String, [u8; 32], Vec<u8>);

/// What authorities said, in this node's memory.
#[derive(Default)]
pub struct Authorities {
    lists: Kept<ListOf, Arc<List>>,
    answers: Kept<AnswerOf, Word>,
}

impl Authorities {
    /// Why the last question at an address brought no answer, where it did not.
    pub async fn last_silence(&self, url: &str) -> Option<String> {
        let slots: Vec<Slot<Word>> = {
            let answers = self.answers.lock().unwrap_or_else(|e| e.into_inner());
            answers.iter().filter(|((at, ..), _)| at == url).map(|(_, slot)| slot.clone()).collect()
        };
        let mut last: Option<(Moment, Option<String>)> = None;
        for slot in slots {
            let heard = slot.lock().await;
            if let Some((at, heard)) = &*heard
                && last.as_ref().is_none_or(|(before, _)| before < at)
            {
                last = Some((*at, heard.as_ref().err().cloned()));
            }
        }
        last?.1
    }

    /// The list of an authority at an address.
    ///
    /// # Errors
    /// Why there is none that counts.
    pub async fn list(&self, url: &str, authority: &[u8], now: Moment) -> Result<Arc<List>, String> {
        let slot = slot(&self.lists, (url.to_owned(), sha256(authority)), LISTS_MAX);
        let mut slot = slot.lock().await;
        if let Some(kept) = fresh(&slot, now, |l| l.until) {
            return kept;
        }
        let heard = async {
            let octets = client()?.get_signed(url, None, LIST_MAX).await.map_err(|e| e.to_string())?;
            let authority = authority.to_vec();
            // A long list takes its time, and nobody else waits for it.
            let read = tokio::task::spawn_blocking(move || List::read(&octets, &authority, now)).await;
            read.map_err(|_| "the list could not be read".to_owned())?.map(Arc::new)
        };
        keep(&mut slot, now, heard.await, |l| l.until)
    }

    /// What an authority says of one certificate.
    ///
    /// # Errors
    /// Why it says nothing that counts.
    pub async fn answer(&self, url: &str, authority: &[u8], serial: &[u8], now: Moment) -> Result<Word, String> {
        let slot = slot(&self.answers, (url.to_owned(), sha256(authority), serial.to_vec()), ANSWERS_MAX);
        let mut slot = slot.lock().await;
        if let Some(kept) = fresh(&slot, now, |w| w.until) {
            return kept;
        }
        let heard = async {
            let question = revocation::question(authority, serial).ok_or("it cannot be asked about")?;
            let asked = Some(("application/ocsp-request", question));
            let octets = client()?.get_signed(url, asked, ANSWER_MAX).await.map_err(|e| e.to_string())?;
            revocation::answer(&octets, authority, serial, now)
        };
        keep(&mut slot, now, heard.await, |w| w.until)
    }
}

/// One client for all questions: making one reads the system's certificates.
fn client() -> Result<&'static Client, String> {
    static CLIENT: LazyLock<Result<Client, String>> = LazyLock::new(|| Client::new(None, LIMIT).map_err(|e| e.to_string()));
    CLIENT.as_ref().map_err(Clone::clone)
}

fn slot<K: Hash + Eq, T>(of: &Kept<K, T>, key: K, most: usize) -> Slot<T> {
    let mut of = of.lock().unwrap_or_else(|e| e.into_inner());
    if of.len() >= most && !of.contains_key(&key) {
        // Whoever waits for one of them holds it.
        of.retain(|_, slot| Arc::strong_count(slot) > 1);
    }
    of.entry(key).or_default().clone()
}

/// What was heard of late, where nobody is to be asked again yet.
fn fresh<T: Clone>(slot: &Heard<T>, now: Moment, until: impl Fn(&T) -> Moment) -> Option<Result<T, String>> {
    let (at, heard) = slot.as_ref()?;
    let good = match heard {
        Ok(it) => now < (*at + chrono::Duration::minutes(ASKED_MINUTES)).min(until(it)),
        Err(_) => now < *at + REST,
    };
    good.then(|| heard.clone())
}

/// Keeps what was heard. Where that is nothing, what was heard before counts for as long as its authority said.
fn keep<T: Clone>(slot: &mut Heard<T>, now: Moment, heard: Result<T, String>, until: impl Fn(&T) -> Moment) -> Result<T, String> {
    let before = slot.take().and_then(|(_, heard)| heard.ok()).filter(|it| until(it) > now);
    match (heard, before) {
        (Err(why), Some(before)) => {
            tracing::warn!(event = "device.authority-silent", why, "an authority did not say anew what it took back");
            // Asked again once the rest is over.
            let at = now - chrono::Duration::minutes(ASKED_MINUTES) + REST;
            *slot = Some((at, Ok(before.clone())));
            Ok(before)
        }
        (heard, _) => {
            *slot = Some((now, heard.clone()));
            heard
        }
    }
}

#[cfg(test)]
mod tests {
    use passeur_links::revocation::Says;

    use super::*;

    #[test]
    fn what_was_heard_counts_as_long_as_it_says_and_silence_for_half_a_minute() {
        let now = Moment::from_timestamp(1_800_000_000, 0).unwrap();
        let minutes = |n| chrono::Duration::minutes(n);
        let word = |until| Word { says: Says::Good, until };
        let mut slot = None;
        let ask = |slot: &Option<_>, at| fresh::<Word>(slot, at, |w| w.until).map(|r| r.is_ok());
        assert_eq!(ask(&slot, now), None);
        keep(&mut slot, now, Ok(word(now + minutes(20))), |w| w.until).unwrap();
        assert_eq!([0, 14, 15].map(|m| ask(&slot, now + minutes(m))), [Some(true), Some(true), None]);
        // It is silent now: what it said counts on, and it is asked again soon.
        let then = now + minutes(15);
        assert!(keep(&mut slot, then, Err("silent".into()), |w| w.until).is_ok());
        assert_eq!([0, 29, 30].map(|s| ask(&slot, then + chrono::Duration::seconds(s))), [Some(true), Some(true), None]);
        // And no longer than it said.
        let late = now + minutes(20);
        assert!(keep(&mut slot, late, Err("silent".into()), |w| w.until).is_err());
        assert_eq!([0, 29, 30].map(|s| ask(&slot, late + chrono::Duration::seconds(s))), [Some(false), Some(false), None]);
        // A short word is asked for again when it ends.
        keep(&mut slot, now, Ok(word(now + minutes(2))), |w| w.until).unwrap();
        assert_eq!([1, 2].map(|m| ask(&slot, now + minutes(m))), [Some(true), None]);
    }

    #[test]
    fn no_more_is_kept_than_there_is_room_for() {
        let kept: Kept<u32, Word> = Mutex::default();
        let held = slot(&kept, 0, 3);
        for n in 1..100 {
            slot(&kept, n, 3);
        }
        let kept = kept.lock().unwrap();
        assert!(kept.len() <= 3 && kept.contains_key(&0), "{:?}", kept.keys());
        drop(held);
    }
}
