//! Whether a directory says an account may not be used. Directories say it in different attributes; each that is known
//! is looked at, and any one of them is enough.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDateTime};
use passeur_core::Moment;

/// Attributes fetched to judge the account, beside those the site maps.
pub(super) const ATTRIBUTES: [&str; 7] = [
    "pwdAccountLockedTime",
    "shadowExpire",
    "userAccountControl",
    "accountExpires",
    "nsAccountLock",
    "krbPrincipalExpiration",
    "loginDisabled",
];

/// The reason why the account may not be used, naming the attribute that says so.
pub(super) fn unusable(attributes: &BTreeMap<String, Vec<String>>, now: Moment) -> Option<String> {
    let first = |name: &str| attributes.get(name).and_then(|v| v.first()).map(String::as_str);
    let number = |name: &str| first(name).and_then(|v| v.parse::<i64>().ok());
    // draft-behera-ldap-password-policy: 000001010000Z means locked until an administrator unlocks it.
    if let Some(at) = first("pwdaccountlockedtime") {
        return Some(format!("pwdAccountLockedTime is {at}"));
    }
    if number("useraccountcontrol").is_some_and(|v| v & 0x2 != 0) {
        return Some("userAccountControl has the disabled bit (0x2)".into());
    }
    for flag in ["nsaccountlock", "logindisabled"] {
        if first(flag).is_some_and(|v| v.eq_ignore_ascii_case("true")) {
            return Some(format!("{flag} is TRUE"));
        }
    }
    // RFC 2307: days since 1970; -1 or nothing means never.
    if let Some(days) = number("shadowexpire").filter(|d| *d >= 0)
        && now.timestamp() >= days.saturating_mul(86_400)
    {
        return Some(format!("shadowExpire is {days}, which is {}", day(days)));
    }
    // 100 ns since 1601; 0 and the greatest number mean never.
    if let Some(ticks) = number("accountexpires").filter(|t| *t > 0 && *t < i64::MAX)
        && now.timestamp() >= ticks / 10_000_000 - 11_644_473_600
    {
        return Some("accountExpires lies in the past".into());
    }
    if let Some(at) = first("krbprincipalexpiration").and_then(generalized_time)
        && now >= at
    {
        return Some(format!("krbPrincipalExpiration is {}", at.format("%Y-%m-%d %H:%M UTC")));
    }
    None
}

fn day(days: i64) -> String {
    DateTime::from_timestamp(days.saturating_mul(86_400), 0).map(|t| t.format("%Y-%m-%d").to_string()).unwrap_or_default()
}

/// GeneralizedTime in UTC (RFC 4517 3.3.13), without fractions.
fn generalized_time(text: &str) -> Option<Moment> {
    let digits = text.strip_suffix('Z')?;
    NaiveDateTime::parse_from_str(digits, "%Y%m%d%H%M%S").ok().map(|t| t.and_utc())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_way_of_saying_no_is_understood_and_never_is_never() {
        let now = DateTime::from_timestamp(1_795_000_000, 0).unwrap();
        for (name, value, refused) in [
            ("shadowexpire", "1", true),
            ("shadowexpire", "-1", false),
            ("shadowexpire", "99999", false),
            ("shadowexpire", "9223372036854775807", false),
            ("useraccountcontrol", "514", true),
            ("useraccountcontrol", "512", false),
            ("accountexpires", "0", false),
            ("accountexpires", "9223372036854775807", false),
            ("accountexpires", "130000000000000000", true),
            ("pwdaccountlockedtime", "000001010000Z", true),
            ("nsaccountlock", "TRUE", true),
            ("nsaccountlock", "false", false),
            ("krbprincipalexpiration", "20200101000000Z", true),
            ("krbprincipalexpiration", "20990101000000Z", false),
            ("krbprincipalexpiration", "soon", false),
        ] {
            let entry = BTreeMap::from([(name.to_owned(), vec![value.to_owned()])]);
            assert_eq!(unusable(&entry, now).is_some(), refused, "{name} = {value}");
        }
    }
}
