//! Files of tickets (credential caches, file formats 0503 and 0504): whose they are, for which services, and until when. Keys and
//! tickets are passed over; of a ticket its outside is read, which anybody on the way may read.

use chrono::{DateTime, TimeDelta, Utc};

use super::principal::Principal;
use super::reader::{Reader, text};
use super::token::Outside;

/// The longest file that is read, in bytes, and the most tickets of one.
pub const FILE_MAX: usize = 1 << 22;
const TICKETS_MAX: usize = 5_000;
/// Addresses and data of one ticket.
const PARTS_MAX: u32 = 1_000;
/// The realm of entries that hold settings and no ticket.
const SETTINGS: &str = "X-CACHECONF:";

/// One ticket of a cache.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    pub client: Principal,
    pub service: Principal,
    /// The kind of key that client and service share by it.
    pub session_enctype: i32,
    /// When the person proved to their KDC who they are.
    pub proven: Option<DateTime<Utc>>,
    pub starts: Option<DateTime<Utc>>,
    pub ends: Option<DateTime<Utc>>,
    pub renewable_until: Option<DateTime<Utc>>,
    /// Ticket flags (RFC 4120 5.3).
    pub flags: u32,
    /// By which key it is sealed; none where the ticket cannot be read.
    pub outside: Option<Outside>,
}

impl Held {
    /// Whether it may be forwarded.
    pub fn forwardable(&self) -> bool {
        self.flags & 0x4000_0000 != 0
    }
    /// Whether it came by being forwarded.
    pub fn forwarded(&self) -> bool {
        self.flags & 0x2000_0000 != 0
    }
    /// Whether it can be renewed.
    pub fn renewable(&self) -> bool {
        self.flags & 0x0080_0000 != 0
    }
    /// Whether it gets other tickets.
    pub fn grants(&self) -> bool {
        self.service.components.first().is_some_and(|c| c == "krbtgt")
    }
}

/// What a cache holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cache {
    pub owner: Principal,
    /// How far the KDC's clock was ahead when its first ticket was fetched; none where the file does not say.
    pub ahead: Option<TimeDelta>,
    pub held: Vec<Held>,
}

/// Why a file cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadCache {
    #[error("it is no credential cache: it does not begin with 05 03 or 05 04")]
    NoCache,
    #[error("it is of an old format that depends on the machine that wrote it")]
    Old,
    #[error("it is cut off or damaged at byte {at}")]
    Damaged { at: usize },
    #[error("it is longer than a credential cache may be")]
    TooLong,
}

impl Cache {
    /// Whether some bytes begin as a cache does.
    pub fn is_one(bytes: &[u8]) -> bool {
        matches!(bytes, [5, 3 | 4, ..])
    }

    /// Reads a file.
    ///
    /// # Errors
    /// Why it cannot be used; one that is damaged is refused whole.
    pub fn read(bytes: &[u8]) -> Result<Cache, BadCache> {
        if bytes.len() > FILE_MAX {
            return Err(BadCache::TooLong);
        }
        let version = match bytes {
            [5, version @ (3 | 4), ..] => *version,
            [5, 1 | 2, ..] => return Err(BadCache::Old),
            _ => return Err(BadCache::NoCache),
        };
        let mut r = Reader(&bytes[2..]);
        let damaged = |r: &Reader<'_>| BadCache::Damaged { at: bytes.len() - r.0.len() };
        let ahead = match version {
            4 => header(&mut r).ok_or_else(|| damaged(&r))?,
            _ => None,
        };
        let owner = principal(&mut r).ok_or_else(|| damaged(&r))?;
        let mut held = vec![];
        while !r.0.is_empty() {
            let at = damaged(&r);
            let one = ticket(&mut r, version).ok_or(at)?;
            if one.service.realm != SETTINGS {
                held.push(one);
            }
            if held.len() > TICKETS_MAX {
                return Err(BadCache::TooLong);
            }
        }
        Ok(Cache { owner, ahead, held })
    }
}

/// The header of format 0504; of its fields one is known.
fn header(r: &mut Reader<'_>) -> Option<Option<TimeDelta>> {
    let mut fields = Reader(r.short()?);
    let mut ahead = None;
    while !fields.0.is_empty() {
        let (tag, value) = (fields.u16()?, fields.short()?);
        if let (1, [a, b, c, d, ..]) = (tag, value) {
            ahead = TimeDelta::try_seconds(i64::from(i32::from_be_bytes([*a, *b, *c, *d])));
        }
    }
    Some(ahead)
}

fn principal(r: &mut Reader<'_>) -> Option<Principal> {
    let _name_type = r.u32()?;
    let count = r.u32().filter(|n| *n <= 16)?;
    let realm = text(r.long()?);
    let components: Option<Vec<String>> = (0..count).map(|_| r.long().map(text)).collect();
    Some(Principal { components: components?, realm })
}

fn ticket(r: &mut Reader<'_>, version: u8) -> Option<Held> {
    let (client, service) = (principal(r)?, principal(r)?);
    let session_enctype = i32::from(r.u16()? as i16);
    if version == 3 {
        // That format says it twice.
        r.u16()?;
    }
    r.long()?;
    let mut time = || -> Option<Option<DateTime<Utc>>> {
        let seconds = r.u32()?;
        Some(if seconds == 0 { None } else { DateTime::from_timestamp(i64::from(seconds), 0) })
    };
    let (proven, starts, ends, renewable_until) = (time()?, time()?, time()?, time()?);
    let _is_second_key = r.u8()?;
    let flags = r.u32()?;
    // Addresses, then data that the KDC added.
    for _ in 0..2 {
        for _ in 0..r.u32().filter(|n| *n <= PARTS_MAX)? {
            r.u16()?;
            r.long()?;
        }
    }
    let sealed = r.long()?;
    r.long()?;
    let outside = Outside::read(sealed);
    Some(Held { client, service, session_enctype, proven, starts: starts.or(proven), ends, renewable_until, flags, outside })
}
