//! Addresses: where a person may be sent back to, and which names stand for this machine.

use std::net::IpAddr;

use ipnet::IpNet;
use url::Url;

/// A network in CIDR notation, or one address. None where it is neither.
pub fn network(text: &str) -> Option<IpNet> {
    text.parse().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
}

/// The longest return address kept through a sign-in, in bytes. It travels inside sealed state, in a URL.
pub const RETURN_MAX: usize = 1_500;

/// A path and query on a gate to which a person returns after signing in. Holding one proves that it cannot lead to
/// another host and holds no control character.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReturnPath(String);

impl ReturnPath {
    /// The gate's front page.
    pub fn root() -> ReturnPath {
        ReturnPath("/".to_owned())
    }

    /// Reads an origin-form request target (RFC 9112 3.2.1). None when it could be read as another host, holds anything
    /// but visible ASCII, or is too long.
    pub fn parse(target: &str) -> Option<ReturnPath> {
        let ok = target.len() <= RETURN_MAX
            && target.starts_with('/')
            && !target.starts_with("//")
            && target.bytes().all(|b| (0x21..0x7f).contains(&b) && b != b'\\' && b != b'#');
        // `/./ /x` style tricks resolve against the gate's own origin; a second check with the URL parser proves it.
        let base = Url::parse("http://gate.invalid/").ok()?;
        let joined = base.join(target).ok()?;
        (ok && joined.host_str() == Some("gate.invalid") && joined.path().starts_with('/') && !joined.path().starts_with("//"))
            .then(|| ReturnPath(target.to_owned()))
    }

    /// The path and query.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Whether a host name always means this machine: `localhost`, names under it (RFC 6761 6.3) and loopback addresses.
pub fn is_loopback(host: &str) -> bool {
    let name = host.trim_end_matches('.').to_ascii_lowercase();
    if name == "localhost" || name.ends_with(".localhost") {
        return true;
    }
    let bare = name.trim_start_matches('[').trim_end_matches(']');
    bare.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// A slip of the pen in an address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slip {
    pub what: &'static str,
    /// What was probably meant.
    pub meant: String,
    /// Whether it is wrong in an identifier too; otherwise somebody may really have named themselves so.
    pub certain: bool,
}

/// The first slip in an address or an identifier that is one: blanks, a doubled, cut or missing scheme, capitals in scheme or
/// host, slashes too many. None for identifiers of other kinds, such as a URN.
pub fn slip(text: &str) -> Option<Slip> {
    let found = |what, meant, certain| Some(Slip { what, meant, certain });
    if text.contains(char::is_whitespace) {
        return found("holds blanks", text.split_whitespace().collect(), true);
    }
    let lower = text.to_ascii_lowercase();
    let scheme = ["https", "http"].into_iter().find(|s| lower.strip_prefix(s).is_some_and(|r| r.starts_with([':', '/'])));
    let Some(scheme) = scheme else {
        let host = text.split(['/', '?', '#', ':']).next().unwrap_or_default();
        let like_host = host.contains('.') && host.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-'));
        return match text.starts_with("//") || like_host {
            true => found("has no scheme", format!("https://{}", text.trim_start_matches('/')), false),
            false => None,
        };
    };
    let mark = &text[scheme.len()..];
    let rest = mark.trim_start_matches([':', '/']);
    if let Some(again) = ["https", "http"].into_iter().find(|s| rest.strip_prefix(s).is_some_and(|r| r.starts_with([':', '/']))) {
        let tail = rest[again.len()..].trim_start_matches([':', '/']);
        return found("has its scheme twice", format!("{again}://{tail}"), true);
    }
    if !mark.starts_with("://") || mark.starts_with(":///") {
        return found("has its scheme written wrongly", format!("{scheme}://{rest}"), true);
    }
    let (authority, behind) = rest.split_at(rest.find(['/', '?', '#']).unwrap_or(rest.len()));
    let (path, tail) = behind.split_at(behind.find(['?', '#']).unwrap_or(behind.len()));
    let small = authority.to_ascii_lowercase();
    if !text.starts_with(scheme) || small != authority {
        return found("has capitals in its scheme or host", format!("{scheme}://{small}{behind}"), false);
    }
    if path.contains("//") {
        let parts: Vec<&str> = path.split('/').filter(|p| !p.is_empty()).collect();
        let end = if path.ends_with('/') && !parts.is_empty() { "/" } else { "" };
        return found("has two slashes in a row", format!("{scheme}://{authority}/{}{end}{tail}", parts.join("/")), false);
    }
    None
}

/// The public address of a site or gate: scheme, host and port, nothing else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublicAddress {
    /// Lower-case host with the port where it is not the scheme's own: what stands in `Host`.
    pub host: String,
    pub https: bool,
}

/// What is wrong with an address. The words name the remedy.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadAddress {
    #[error("is not an absolute http or https address")]
    NotAbsolute,
    #[error("holds a path, query, fragment or user name; only scheme, host and port belong here")]
    MoreThanOrigin,
    #[error("is plain http, which is accepted for localhost names only; use https")]
    PlainHttp,
}

/// An address as far as it tells clients apart: a client owns a whole IPv6 /64 (RFC 4291 2.5.1), and an IPv4 address is the
/// same when it is written as IPv6.
pub fn neighbourhood(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) => IpAddr::V6((u128::from(v6) & !u128::from(u64::MAX)).into()),
        v4 => v4,
    }
}

impl PublicAddress {
    /// The host name alone, without a port.
    pub fn name(&self) -> &str {
        match self.host.rsplit_once(':') {
            Some((name, port)) if !port.is_empty() && port.bytes().all(|b| b.is_ascii_digit()) => name,
            _ => &self.host,
        }
    }

    /// Reads an origin. Plain HTTP is accepted for loopback names only.
    pub fn parse(text: &str) -> Result<PublicAddress, BadAddress> {
        let url = Url::parse(text).map_err(|_| BadAddress::NotAbsolute)?;
        let host = url.host_str().ok_or(BadAddress::NotAbsolute)?;
        let https = match url.scheme() {
            "https" => true,
            "http" => false,
            _ => return Err(BadAddress::NotAbsolute),
        };
        let origin_only = url.path() == "/"
            && url.query().is_none()
            && url.fragment().is_none()
            && url.username().is_empty()
            && url.password().is_none();
        if !origin_only {
            return Err(BadAddress::MoreThanOrigin);
        }
        if !https && !is_loopback(host) {
            return Err(BadAddress::PlainHttp);
        }
        let host = match url.port() {
            Some(port) => format!("{host}:{port}"),
            None => host.to_owned(),
        };
        Ok(PublicAddress { host, https })
    }

    /// `scheme://host[:port]`, as in an Origin header (RFC 6454 6.2).
    pub fn origin(&self) -> String {
        format!("{}://{}", if self.https { "https" } else { "http" }, self.host)
    }

    /// An address under it; `path` begins with a slash.
    pub fn at(&self, path: &str) -> String {
        format!("{}{path}", self.origin())
    }

    /// Whether a `Host` header or request authority means this address (the scheme's own port may be written or not).
    pub fn is_host(&self, authority: &str) -> bool {
        let authority = authority.to_ascii_lowercase();
        self.names().contains(&authority)
    }

    /// Every spelling of a `Host` that means this address, in lower case; for tables by host.
    pub fn names(&self) -> [String; 2] {
        let own_port = if self.https { ":443" } else { ":80" };
        [self.host.clone(), format!("{}{own_port}", self.host)]
    }

    /// The name of a cookie of ours on this address, and whether it is `Secure`. Where the public address is plain
    /// HTTP, on loopback only, the `__Host-` prefix and Secure are left out so that any client works.
    pub fn cookie(&self, what: &str) -> (String, bool) {
        if self.https { (format!("__Host-passeur-{what}"), true) } else { (format!("passeur-{what}"), false) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_is_read_with_its_prefix_and_one_address_is_a_network_of_itself() {
        for (text, read) in [
            ("10.20.0.0/16", Some("10.20.0.0/16")),
            ("10.20.30.40", Some("10.20.30.40/32")),
            ("2001:db8::/32", Some("2001:db8::/32")),
            ("2001:db8::7", Some("2001:db8::7/128")),
            ("10.0.0.0/33", None),
            ("::/129", None),
            ("10.0.0.1/x", None),
            ("10.20.30", None),
            ("10.0.0.1/", None),
            ("", None),
        ] {
            assert_eq!(network(text).map(|n| n.to_string()).as_deref(), read, "{text}");
        }
    }

    #[test]
    fn a_return_path_never_leads_elsewhere() {
        for good in ["/", "/a?b=c", "/a//b", "/%2e%2e/x", "/a;v=1", "/?u=https://elsewhere.example/"] {
            assert_eq!(ReturnPath::parse(good).map(|p| p.as_str().to_owned()).as_deref(), Some(good));
        }
        let long = format!("/{}", "a".repeat(RETURN_MAX));
        for bad in [
            "",
            "a",
            "//elsewhere.example/",
            "/\\elsewhere.example",
            "\\\\x",
            "http://elsewhere.example/",
            "/a\r\nSet-Cookie: x",
            "/a b",
            "/\t/elsewhere.example",
            "/é",
            "/a#b",
            "/.//elsewhere.example",
            &long,
        ] {
            assert_eq!(ReturnPath::parse(bad), None, "{bad:?}");
        }
    }

    #[test]
    fn slips_of_the_pen_are_named_with_what_was_meant() {
        for (text, what, meant, certain) in [
            (" https://idp.example", "blanks", "https://idp.example", true),
            ("https://idp.example/a b", "blanks", "https://idp.example/ab", true),
            ("https://https://idp.example/x", "twice", "https://idp.example/x", true),
            ("http://https:idp.example", "twice", "https://idp.example", true),
            ("https//idp.example", "wrongly", "https://idp.example", true),
            ("https:/idp.example", "wrongly", "https://idp.example", true),
            ("https:///idp.example", "wrongly", "https://idp.example", true),
            ("idp.example/saml", "no scheme", "https://idp.example/saml", false),
            ("//idp.example", "no scheme", "https://idp.example", false),
            ("HTTPS://idp.example/Saml", "capitals", "https://idp.example/Saml", false),
            ("https://IdP.example/Saml?x", "capitals", "https://idp.example/Saml?x", false),
            ("https://idp.example//saml/", "slashes", "https://idp.example/saml/", false),
            ("https://idp.example//?a=//", "slashes", "https://idp.example/?a=//", false),
        ] {
            let s = slip(text).unwrap_or_else(|| panic!("{text}"));
            assert!(s.what.contains(what), "{text}: {}", s.what);
            assert_eq!((s.meant.as_str(), s.certain), (meant, certain), "{text}");
            assert_eq!(slip(&s.meant), None, "{text}");
        }
        for good in ["https://idp.example", "https://idp.example/Saml/2?tenant=A//b", "urn:example:idp", "idp", "", "httpsidp"] {
            assert_eq!(slip(good), None, "{good}");
        }
    }

    #[test]
    fn only_loopback_names_are_loopback() {
        for yes in ["localhost", "LOCALHOST.", "a.b.localhost", "127.0.0.1", "127.9.9.9", "[::1]", "::1"] {
            assert!(is_loopback(yes), "{yes}");
        }
        for no in ["localhost.example", "notlocalhost", "10.0.0.1", "127.0.0.1.example", "0.0.0.0", ""] {
            assert!(!is_loopback(no), "{no}");
        }
    }

    #[test]
    fn public_addresses_are_origins_and_plain_http_is_for_loopback() {
        assert_eq!(PublicAddress::parse("https://Pass.Havrelune.example").unwrap().host, "pass.havrelune.example");
        assert_eq!(PublicAddress::parse("https://pass.havrelune.example:443").unwrap().host, "pass.havrelune.example");
        assert_eq!(PublicAddress::parse("http://x.localhost:8640").unwrap().origin(), "http://x.localhost:8640");
        assert_eq!(PublicAddress::parse("http://pass.havrelune.example"), Err(BadAddress::PlainHttp));
        assert_eq!(PublicAddress::parse("https://a.example/x"), Err(BadAddress::MoreThanOrigin));
        assert_eq!(PublicAddress::parse("https://u:p@a.example"), Err(BadAddress::MoreThanOrigin));
        assert_eq!(PublicAddress::parse("ftp://a.example"), Err(BadAddress::NotAbsolute));
        assert_eq!(PublicAddress::parse("a.example"), Err(BadAddress::NotAbsolute));
    }

    #[test]
    fn a_host_header_is_matched_with_and_without_the_default_port() {
        let a = PublicAddress::parse("https://gate.example").unwrap();
        assert!(a.is_host("GATE.example") && a.is_host("gate.example:443"));
        assert!(!a.is_host("gate.example:80") && !a.is_host("gate.example.") && !a.is_host("xgate.example"));
        assert_eq!(a.cookie("gate"), ("__Host-passeur-gate".to_owned(), true));
    }

    #[test]
    fn a_whole_network_of_ipv6_is_one_address() {
        let ip = |s: &str| neighbourhood(s.parse().unwrap());
        assert_eq!(ip("2001:db8:1:2::1"), ip("2001:db8:1:2:ffff::9"));
        assert_ne!(ip("2001:db8:1:2::1"), ip("2001:db8:1:3::1"));
        assert_eq!(ip("::ffff:192.0.2.7"), ip("192.0.2.7"));
    }
}
