//! Files of keys (keytab, file format 0502): whose, of which version and kind, and since when. The keys themselves are passed over.

use chrono::{DateTime, Utc};

use super::principal::Principal;
use super::reader::{Reader, text};

/// The longest file that is read, in bytes, and the most keys of one.
pub const FILE_MAX: usize = 1 << 20;
const KEYS_MAX: usize = 10_000;
const VERSION: &[u8] = &[0x05, 0x02];

/// One key, as a file tells of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Key {
    pub principal: Principal,
    pub kvno: u32,
    pub enctype: i32,
    /// When it was written into the file; none where the file does not say.
    pub written: Option<DateTime<Utc>>,
}

/// What a file holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Keytab {
    pub keys: Vec<Key>,
}

/// Why a file cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadKeytab {
    #[error("it is no keytab: it does not begin with 05 02")]
    NoKeytab,
    #[error("it is of an old format, 05 01, that depends on the machine that wrote it")]
    Old,
    #[error("it is cut off or damaged at byte {at}")]
    Damaged { at: usize },
    #[error("it is longer than a keytab may be")]
    TooLong,
    #[error("it holds no key")]
    Empty,
}

impl Keytab {
    /// Whether some bytes begin as a keytab does.
    pub fn is_one(bytes: &[u8]) -> bool {
        bytes.starts_with(VERSION)
    }

    /// Reads a file.
    ///
    /// # Errors
    /// Why it cannot be used; one that is damaged is refused whole.
    pub fn read(bytes: &[u8]) -> Result<Keytab, BadKeytab> {
        if bytes.len() > FILE_MAX {
            return Err(BadKeytab::TooLong);
        }
        let Some(mut rest) = bytes.strip_prefix(VERSION) else {
            return Err(if bytes.starts_with(&[0x05, 0x01]) { BadKeytab::Old } else { BadKeytab::NoKeytab });
        };
        let mut keys = vec![];
        while !rest.is_empty() {
            let damaged = BadKeytab::Damaged { at: bytes.len() - rest.len() };
            let mut r = Reader(rest);
            let size = r.u32().ok_or_else(|| damaged.clone())? as i32;
            if size == 0 {
                // What follows the last record of a file that was shortened.
                break;
            }
            let record = r.take(size.unsigned_abs() as usize).ok_or_else(|| damaged.clone())?;
            rest = r.0;
            // A negative size is a hole: what was removed.
            if size > 0 {
                keys.push(key(record).ok_or(damaged)?);
            }
            if keys.len() > KEYS_MAX {
                return Err(BadKeytab::TooLong);
            }
        }
        if keys.is_empty() { Err(BadKeytab::Empty) } else { Ok(Keytab { keys }) }
    }

    /// Keys of one principal.
    pub fn of<'a>(&'a self, principal: &'a Principal) -> impl Iterator<Item = &'a Key> {
        self.keys.iter().filter(move |k| k.principal == *principal)
    }

    /// The principals that have keys here, each once, in the order of the file.
    pub fn principals(&self) -> Vec<&Principal> {
        let mut out: Vec<&Principal> = vec![];
        for k in &self.keys {
            if !out.contains(&&k.principal) {
                out.push(&k.principal);
            }
        }
        out
    }
}

fn key(record: &[u8]) -> Option<Key> {
    let mut r = Reader(record);
    let count = r.u16().filter(|n| (1..=16).contains(n))?;
    let realm = text(r.short()?);
    let components: Option<Vec<String>> = (0..count).map(|_| r.short().map(text)).collect();
    let _name_type = r.u32()?;
    let written = r.u32()?;
    let short = r.u8()?;
    let enctype = i32::from(r.u16()? as i16);
    r.short()?;
    // A version of more than eight bits stands at the end.
    let kvno = r.u32().filter(|v| *v != 0).unwrap_or(u32::from(short));
    let written = (written != 0).then(|| DateTime::from_timestamp(i64::from(written), 0)).flatten();
    Some(Key { principal: Principal { components: components?, realm }, kvno, enctype, written })
}
