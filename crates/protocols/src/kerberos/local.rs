//! Which account of a machine a principal is (MIT Kerberos, `auth_to_local` in `krb5.conf(5)`): names given one by one, then rules
//! in order, both of the default realm's section, whatever realm the principal is of.

use regex::RegexBuilder;

use super::config::{Config, Place};
use super::principal::Principal;

/// How large a compiled pattern may be, in bytes.
const PATTERN_MAX: usize = 1 << 20;

/// Why a principal is no account.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoAccount {
    #[error("there is no default_realm")]
    NoDefaultRealm,
    #[error("no rule of auth_to_local means it, and it is not a plain name of the default realm {0}")]
    NoRule(String),
    #[error("the rule at {0} cannot be read, and those after it are not looked at")]
    BadRule(Place),
}

/// The account, and the line that says so; none where it is the principal's own name in the default realm.
///
/// # Errors
/// Why there is none.
pub fn account(config: &Config, principal: &Principal) -> Result<(String, Option<Place>), NoAccount> {
    let realm = config.default_realm().ok_or(NoAccount::NoDefaultRealm)?;
    if let Some(named) = config.one(&["realms", realm, "auth_to_local_names", &principal.name()]) {
        return Ok((named.value.clone(), Some(named.place.clone())));
    }
    let own = || match principal.components.as_slice() {
        [name] if principal.realm == realm => Some(name.clone()),
        _ => None,
    };
    let rules = config.all(&["realms", realm, "auth_to_local"]);
    if rules.is_empty() {
        return own().map(|n| (n, None)).ok_or_else(|| NoAccount::NoRule(realm.to_owned()));
    }
    for rule in rules {
        let found = match rule.value.strip_prefix("RULE:") {
            Some(text) => by_rule(text, principal).ok_or_else(|| NoAccount::BadRule(rule.place.clone()))?,
            None if rule.value == "DEFAULT" => own(),
            None => return Err(NoAccount::BadRule(rule.place.clone())),
        };
        if let Some(name) = found {
            return Ok((name, Some(rule.place.clone())));
        }
    }
    Err(NoAccount::NoRule(realm.to_owned()))
}

/// `[n:string](pattern)s/from/to/g`. None where it cannot be read; within, none where it does not mean this principal.
fn by_rule(rule: &str, principal: &Principal) -> Option<Option<String>> {
    let (count, rest) = rule.strip_prefix('[')?.split_once(':')?;
    let (string, mut rest) = rest.split_once(']')?;
    let count: usize = count.parse().ok()?;
    if count != principal.components.len() {
        return Some(None);
    }
    let mut selected = String::new();
    let mut chars = string.chars().peekable();
    while let Some(c) = chars.next() {
        match (c, chars.peek().and_then(|d| d.to_digit(10))) {
            ('$', Some(n)) => {
                chars.next();
                let n = usize::try_from(n).ok()?;
                selected.push_str(if n == 0 { &principal.realm } else { principal.components.get(n - 1)? });
            }
            ('$', None) => return None,
            (c, _) => selected.push(c),
        }
    }
    if let Some(inside) = rest.strip_prefix('(') {
        let end = closing(inside)?;
        // The whole of it must be meant.
        let pattern = RegexBuilder::new(&format!("^(?:{})$", &inside[..end])).size_limit(PATTERN_MAX).build().ok()?;
        rest = &inside[end + 1..];
        if !pattern.is_match(&selected) {
            return Some(None);
        }
    }
    while !rest.is_empty() {
        let body = rest.strip_prefix("s/")?;
        let (from, body) = body.split_once('/')?;
        let (to, after) = body.split_once('/')?;
        let (all, after) = after.strip_prefix('g').map_or((false, after), |a| (true, a));
        let pattern = RegexBuilder::new(from).size_limit(PATTERN_MAX).build().ok()?;
        let plain = regex::NoExpand(to);
        let replaced = if all { pattern.replace_all(&selected, plain) } else { pattern.replace(&selected, plain) };
        selected = replaced.into_owned();
        rest = after;
    }
    Some(Some(selected))
}

/// Where the pattern in brackets ends; those within it stand in pairs.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 0u32;
    let mut escaped = false;
    for (i, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '(' => depth += 1,
            ')' if depth == 0 => return Some(i),
            ')' => depth -= 1,
            _ => {}
        }
    }
    None
}
