//! One search and everything it takes to have its whole answer: pages (RFC 2696), lists of values that come in ranges,
//! referrals. What cannot be had as a whole is no answer.

use std::collections::BTreeMap;

use ldap3::asn1::{PL, StructureTag};
use ldap3::controls::{Control, ControlType, PagedResults, RawControl};
use ldap3::{Ldap, Scope, SearchOptions};
use passeur_core::site::{Directory, Referrals};
use url::Url;

use super::connect::{LinkError, connect_with, limit, of_result, result_words};

/// The most values of one attribute.
const VALUES_MAX: usize = 20_000;
/// How many referrals lead on from one another, and how many are followed for one search.
const REFERRALS_DEEP: usize = 3;
const REFERRALS_MAX: usize = 16;
/// How many references may come with one answer.
const REFERENCES_MAX: usize = 1_000;

/// An entry as it came: values are bytes, names in lower case.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct RawEntry {
    pub(super) dn: String,
    pub(super) attributes: BTreeMap<String, Vec<Vec<u8>>>,
}

impl RawEntry {
    /// From a SearchResultEntry (RFC 4511 4.5.2); none where it is malformed.
    fn of(tag: StructureTag) -> Option<RawEntry> {
        let mut parts = tag.match_id(4)?.expect_constructed()?.into_iter();
        let dn = String::from_utf8(parts.next()?.expect_primitive()?).ok()?;
        let mut attributes = BTreeMap::new();
        for attribute in parts.next()?.expect_constructed()? {
            let mut pair = attribute.expect_constructed()?.into_iter();
            let name = String::from_utf8(pair.next()?.expect_primitive()?).ok()?.to_ascii_lowercase();
            let values: Option<Vec<_>> = pair.next()?.expect_constructed()?.into_iter().map(|v| v.expect_primitive()).collect();
            attributes.insert(name, values?);
        }
        Some(RawEntry { dn, attributes })
    }

    /// Values of an attribute that are text.
    pub(super) fn texts(&self, name: &str) -> Vec<String> {
        let values = self.attributes.get(&name.to_ascii_lowercase()).map(Vec::as_slice).unwrap_or_default();
        values.iter().filter_map(|v| String::from_utf8(v.clone()).ok()).collect()
    }

    pub(super) fn text(&self, name: &str) -> Option<String> {
        self.texts(name).into_iter().next()
    }

    pub(super) fn bytes(&self, name: &str) -> Option<&[u8]> {
        self.attributes.get(&name.to_ascii_lowercase())?.first().map(Vec::as_slice)
    }
}

/// What to search for.
#[derive(Clone, Copy)]
pub(super) struct Ask<'a> {
    pub(super) base: &'a str,
    pub(super) scope: Scope,
    pub(super) filter: &'a str,
    pub(super) wanted: &'a [&'a str],
    /// The most entries wanted; one more is enough to know that there are more.
    pub(super) max: usize,
}

/// What was found.
#[derive(Debug, Default)]
pub(super) struct Found {
    pub(super) entries: Vec<RawEntry>,
    /// Whether there are more than were wanted.
    pub(super) more: bool,
    /// Where the directory referred to and nobody asked.
    pub(super) passed_over: Vec<String>,
}

/// A bound connection to one server of a directory.
pub(super) struct Query<'d> {
    pub(super) ldap: Ldap,
    pub(super) directory: &'d Directory,
    pub(super) passwords: &'d [String],
    /// Where referrals led already, for the search at hand.
    referrals: usize,
}

impl<'d> Query<'d> {
    pub(super) fn new(ldap: Ldap, directory: &'d Directory, passwords: &'d [String]) -> Query<'d> {
        Query { ldap, directory, passwords, referrals: 0 }
    }

    /// Searches, page by page.
    pub(super) async fn search(&mut self, ask: Ask<'_>) -> Result<Found, LinkError> {
        self.referrals = 0;
        self.search_from(ask, 0).await
    }

    async fn search_from(&mut self, ask: Ask<'_>, deep: usize) -> Result<Found, LinkError> {
        let mut out = Found::default();
        let mut refers: Vec<String> = vec![];
        let mut cookie = vec![];
        loop {
            let left = (ask.max + 1).saturating_sub(out.entries.len());
            let size = left.min(usize::from(self.directory.page));
            let (entries, references, result, next) = self.page(ask, size, cookie).await?;
            out.entries.extend(entries);
            refers.extend(references);
            match result {
                Ended::Whole => {}
                Ended::Cut => out.more = true,
                Ended::Elsewhere(urls) if self.follows() => refers.extend(urls),
                Ended::Elsewhere(_) => {
                    return Err(LinkError::Unusable(format!("the search under {}: {}", ask.base, result_words(10, ""))));
                }
            }
            if out.entries.len() > ask.max || next.is_empty() {
                break;
            }
            cookie = next;
        }
        for url in refers {
            if out.entries.len() > ask.max {
                break;
            }
            if !self.follows() {
                out.passed_over.push(url);
                continue;
            }
            let found = Box::pin(self.refer(&url, ask, deep)).await?;
            out.more |= found.more;
            out.entries.extend(found.entries);
        }
        if out.entries.len() > ask.max {
            out.more = true;
            out.entries.truncate(ask.max);
        }
        for entry in &mut out.entries {
            self.complete(entry).await?;
        }
        Ok(out)
    }

    async fn page(
        &mut self,
        ask: Ask<'_>,
        size: usize,
        cookie: Vec<u8>,
    ) -> Result<(Vec<RawEntry>, Vec<String>, Ended, Vec<u8>), LinkError> {
        let limit = limit(self.directory);
        let options = SearchOptions::new().timelimit(limit.as_secs().max(1) as i32);
        // Few entries need no pages: the limit says it all.
        let paged = ask.max >= usize::from(self.directory.page);
        let options = if paged { options } else { options.sizelimit(i32::try_from(ask.max + 1).unwrap_or(i32::MAX)) };
        let asking = self.ldap.with_timeout(limit).with_search_options(options);
        if paged {
            let control: RawControl = PagedResults { size: i32::try_from(size).unwrap_or(i32::MAX), cookie }.into();
            asking.with_controls(vec![control]);
        }
        // Entry by entry: what is malformed is seen before anything takes it apart, and no server fills the memory.
        let mut stream = asking.streaming_search(ask.base, ask.scope, ask.filter, ask.wanted.to_vec()).await?;
        let (mut entries, mut references) = (vec![], vec![]);
        while let Some(one) = stream.next().await? {
            if one.is_intermediate() {
                continue;
            }
            if one.is_ref() {
                references.extend(urls_of(one.0));
            } else {
                let malformed = || LinkError::Dead("an entry came that is none (RFC 4511 4.5.2)".to_owned());
                entries.push(RawEntry::of(one.0).ok_or_else(malformed)?);
            }
            if entries.len() > size.max(ask.max + 1) || references.len() > REFERENCES_MAX {
                return Err(LinkError::Dead("more came than was asked for".to_owned()));
            }
        }
        let result = stream.finish().await;
        let ended = match result.rc {
            0 => Ended::Whole,
            4 => Ended::Cut,
            10 => Ended::Elsewhere(result.refs),
            rc => {
                let words = format!("the search under {} failed: {}", ask.base, result_words(rc, &result.text));
                return Err(of_result(rc, words));
            }
        };
        let next = if paged { cookie_of(&result.ctrls).unwrap_or_default() } else { vec![] };
        Ok((entries, references, ended, next))
    }

    fn follows(&self) -> bool {
        matches!(self.directory.referrals, Referrals::Follow(_))
    }

    /// Asks the server that a referral names, where that is allowed. Our account and its password go to no other.
    async fn refer(&mut self, url: &str, ask: Ask<'_>, deep: usize) -> Result<Found, LinkError> {
        self.referrals += 1;
        if deep >= REFERRALS_DEEP || self.referrals > REFERRALS_MAX {
            return Err(LinkError::Unusable(format!("referrals lead on without end, the last to {url}")));
        }
        let to = Reference::parse(url).ok_or_else(|| LinkError::Unusable(format!("the referral {url:?} cannot be read")))?;
        let allowed = match &self.directory.referrals {
            Referrals::Follow(others) => {
                others.iter().chain(&self.directory.servers).find(|s| origin(s) == Some(to.origin.clone()))
            }
            Referrals::Ignore => None,
        };
        let Some(server) = allowed else {
            let words = format!("the directory refers to {url}, which is not among referral-servers");
            return Err(LinkError::Unusable(words));
        };
        let ldap = connect_with(self.directory, server, self.passwords).await?;
        let mut there = Query { ldap, directory: self.directory, passwords: self.passwords, referrals: self.referrals };
        let base = to.base.as_deref().unwrap_or(ask.base);
        let found = there.search_from(Ask { base, scope: to.scope.unwrap_or(ask.scope), ..ask }, deep + 1).await;
        self.referrals = there.referrals;
        let _ = there.ldap.unbind().await;
        found
    }

    /// Fetches the rest of lists that came in part, such as `member;range=0-1499` ([MS-ADTS] 3.1.1.3.1.3.3).
    async fn complete(&mut self, entry: &mut RawEntry) -> Result<(), LinkError> {
        let ranged: Vec<String> = entry.attributes.keys().filter(|n| n.contains(";range=")).cloned().collect();
        for name in ranged {
            let mut values = entry.attributes.remove(&name).unwrap_or_default();
            let Some((plain, mut end)) = range_of(&name) else { continue };
            while let Some(last) = end {
                let from = last + 1;
                if values.len() > VALUES_MAX || from != values.len() {
                    return Err(LinkError::Unusable(format!("{plain} of {} cannot be read as a whole", entry.dn)));
                }
                let wanted = format!("{plain};range={from}-*");
                let ask = Ask { base: &entry.dn, scope: Scope::Base, filter: "(objectClass=*)", wanted: &[&wanted], max: 1 };
                let (found, _, _, _) = self.page(ask, 1, vec![]).await?;
                let next = found.into_iter().next().and_then(|e| {
                    e.attributes.into_iter().find_map(|(n, v)| {
                        let (base, end) = range_of(&n)?;
                        (base == plain).then_some((v, end))
                    })
                });
                let Some((more, next_end)) = next.filter(|(v, _)| !v.is_empty()) else {
                    return Err(LinkError::Unusable(format!("{plain} of {} ends after {} values", entry.dn, values.len())));
                };
                values.extend(more);
                end = next_end;
            }
            entry.attributes.insert(plain, values);
        }
        Ok(())
    }
}

/// How a search ended.
enum Ended {
    Whole,
    /// At a size limit, ours or the server's.
    Cut,
    /// The whole base lies elsewhere.
    Elsewhere(Vec<String>),
}

/// `member;range=0-1499` is `member` up to 1499; `member;range=1500-*` is the rest of it.
fn range_of(name: &str) -> Option<(String, Option<usize>)> {
    let (plain, range) = name.split_once(";range=")?;
    let (from, to) = range.split_once('-')?;
    from.parse::<usize>().ok()?;
    let end = if to == "*" { None } else { Some(to.parse().ok().filter(|n: &usize| *n < VALUES_MAX * 2)?) };
    Some((plain.to_owned(), end))
}

/// Addresses of a SearchResultReference (RFC 4511 4.5.3).
fn urls_of(tag: StructureTag) -> Vec<String> {
    let parts = match tag.payload {
        PL::C(parts) => parts,
        PL::P(_) => return vec![],
    };
    parts.into_iter().filter_map(|p| String::from_utf8(p.expect_primitive()?).ok()).take(REFERRALS_MAX + 1).collect()
}

/// The cookie of the next page (RFC 2696 2); none when this was the last.
fn cookie_of(controls: &[Control]) -> Option<Vec<u8>> {
    let value = controls.iter().find_map(|Control(kind, raw)| match kind {
        Some(ControlType::PagedResults) => raw.val.as_deref(),
        _ => None,
    })?;
    let (_, tag) = ldap3::asn1::parse_tag(value).ok()?;
    tag.expect_constructed()?.into_iter().nth(1)?.expect_primitive()
}

/// Scheme, host and port of an LDAP address, with the usual port where none stands.
fn origin(url: &str) -> Option<(String, String, u16)> {
    let url = Url::parse(url).ok()?;
    let port = url.port().or(match url.scheme() {
        "ldap" => Some(389),
        "ldaps" => Some(636),
        _ => None,
    })?;
    Some((url.scheme().to_owned(), url.host_str()?.to_ascii_lowercase(), port))
}

/// Where a referral leads (RFC 4516). A filter of its own is not followed: it is ours that finds the person.
struct Reference {
    origin: (String, String, u16),
    base: Option<String>,
    scope: Option<Scope>,
}

impl Reference {
    fn parse(url: &str) -> Option<Reference> {
        if url.len() > 2_000 {
            return None;
        }
        let parsed = Url::parse(url).ok()?;
        let base = percent_decoded(parsed.path().trim_start_matches('/'))?;
        let mut parts = parsed.query().unwrap_or_default().split('?');
        let scope = match parts.nth(1).unwrap_or_default() {
            "" => None,
            "base" => Some(Scope::Base),
            "one" => Some(Scope::OneLevel),
            "sub" => Some(Scope::Subtree),
            _ => return None,
        };
        if parts.next().is_some_and(|filter| !filter.is_empty()) {
            return None;
        }
        Some(Reference { origin: origin(url)?, base: (!base.is_empty()).then_some(base), scope })
    }
}

fn percent_decoded(text: &str) -> Option<String> {
    let mut out = vec![];
    let mut bytes = text.bytes();
    while let Some(b) = bytes.next() {
        if b != b'%' {
            out.push(b);
            continue;
        }
        let digits = [bytes.next()?, bytes.next()?];
        out.push(u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?);
    }
    String::from_utf8(out).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read() {
        for (name, expected) in [
            ("member;range=0-1499", Some(("member", Some(1499)))),
            ("member;range=1500-*", Some(("member", None))),
            ("member;range=x-*", None),
            ("member;range=0-99999999999", None),
            ("member", None),
        ] {
            let got = range_of(name);
            assert_eq!(got.as_ref().map(|(n, e)| (n.as_str(), *e)), expected, "{name}");
        }
    }

    #[test]
    fn referrals_are_read_and_what_would_change_the_search_is_not() {
        let read = |u: &str| Reference::parse(u).map(|r| (r.origin.1, r.origin.2, r.base, r.scope));
        let base = |b: &str| Some(b.to_owned());
        assert_eq!(
            read("ldap://B.example/ou=a%2Cb,dc=x??sub"),
            Some(("b.example".into(), 389, base("ou=a,b,dc=x"), Some(Scope::Subtree)))
        );
        assert_eq!(read("ldaps://b.example:1636"), Some(("b.example".into(), 1636, None, None)));
        assert_eq!(read("ldap://b.example/dc=x???(uid=root)"), None);
        assert_eq!(read("http://b.example/dc=x"), None);
        assert_eq!(read("ldap://b.example/%zz"), None);
        assert_eq!(read("ldap:///dc=x"), None);
        assert_eq!(read(&format!("ldap://b.example/{}", "a".repeat(3_000))), None);
    }
}
