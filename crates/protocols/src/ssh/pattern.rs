//! Patterns (`ssh_config(5)`, PATTERNS): `*` and `?`, lists with commas, `!` for what is not meant, and networks.

use std::net::IpAddr;

/// Whether a list of patterns means a text: one of them does, and none of those with `!`.
pub fn matches(list: &str, text: &str) -> bool {
    let mut found = false;
    for pattern in list.split(',') {
        match pattern.strip_prefix('!') {
            Some(not) if one(not, text) => return false,
            Some(_) => {}
            None => found |= one(pattern, text),
        }
    }
    found
}

/// The same of an address: a pattern may be a network (RFC 4632). None where the address is none.
pub fn matches_address(list: &str, address: &str) -> Option<bool> {
    let ip: IpAddr = address.parse().ok()?;
    let mut found = false;
    for pattern in list.split(',') {
        let (not, pattern) = pattern.strip_prefix('!').map_or((false, pattern), |p| (true, p));
        let is = network(pattern, ip).unwrap_or_else(|| one(pattern, address));
        if is && not {
            return Some(false);
        }
        found |= is;
    }
    Some(found)
}

fn network(pattern: &str, ip: IpAddr) -> Option<bool> {
    let (base, length) = pattern.split_once('/')?;
    let (base, length): (IpAddr, u32) = (base.parse().ok()?, length.parse().ok()?);
    match (base, ip) {
        (IpAddr::V4(b), IpAddr::V4(a)) => {
            let mask = u32::MAX.checked_shl(32u32.checked_sub(length)?).unwrap_or(0);
            Some(u32::from(b) & mask == u32::from(a) & mask)
        }
        (IpAddr::V6(b), IpAddr::V6(a)) => {
            let mask = u128::MAX.checked_shl(128u32.checked_sub(length)?).unwrap_or(0);
            Some(u128::from(b) & mask == u128::from(a) & mask)
        }
        _ => Some(false),
    }
}

/// One pattern, without going back more than once for each star: its time is bounded by both lengths multiplied.
fn one(pattern: &str, text: &str) -> bool {
    let (p, t): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    let (mut i, mut j) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while j < t.len() {
        match p.get(i) {
            Some('*') => {
                star = Some((i, j));
                i += 1;
            }
            Some(c) if *c == '?' || *c == t[j] => {
                i += 1;
                j += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    i = at + 1;
                    j = from + 1;
                }
                None => return false,
            },
        }
    }
    p[i..].iter().all(|c| *c == '*')
}
