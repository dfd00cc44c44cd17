//! What the server is told.

use std::fmt::Write;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;

/// Something that a client is told when it is let in. All of it is typed: the server does not check.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Push {
    /// The client's own address, in a network of this many bits.
    Address4(Ipv4Addr, u8),
    /// The same of IPv6, with the server's address.
    Address6(Ipv6Addr, u8, Ipv6Addr),
    Route(IpNet),
    /// Everything goes into the tunnel.
    Whole,
    Resolver(IpAddr),
    /// A domain that those resolvers are asked about: letters, digits, hyphens and points.
    Domain(String),
    /// An option that was checked where the site was read: a known name, with numbers.
    Option(String),
    /// The user name that a client without one shows its token with: without it, it forgets the token.
    TokenUser(String),
}

impl Push {
    /// The line of a client's configuration that says so; none where it holds what no such line may.
    fn line(&self) -> Option<String> {
        let plain =
            |t: &str, of: &[u8]| (!t.is_empty() && t.bytes().all(|b| b.is_ascii_alphanumeric() || of.contains(&b))).then_some(());
        Some(match self {
            Push::Address4(a, bits) => format!("ifconfig-push {a} {}", mask(*bits)?),
            Push::Address6(a, bits, server) => format!("ifconfig-ipv6-push {a}/{bits} {server}"),
            Push::Route(IpNet::V4(n)) => format!("push \"route {} {}\"", n.network(), n.netmask()),
            Push::Route(IpNet::V6(n)) => format!("push \"route-ipv6 {}\"", n.trunc()),
            Push::Whole => "push \"redirect-gateway def1 ipv6\"".to_owned(),
            Push::Resolver(IpAddr::V4(a)) => format!("push \"dhcp-option DNS {a}\""),
            Push::Resolver(IpAddr::V6(a)) => format!("push \"dhcp-option DNS6 {a}\""),
            Push::Domain(name) => {
                plain(name, b"-._")?;
                format!("push \"dhcp-option DOMAIN-SEARCH {name}\"")
            }
            Push::TokenUser(name) => format!("push \"auth-token-user {}\"", base64(&name.chars().take(40).collect::<String>())),
            Push::Option(text) => {
                plain(text, b"- ")?;
                format!("push \"{text}\"")
            }
        })
    }
}

fn mask(bits: u8) -> Option<Ipv4Addr> {
    ipnet::Ipv4Net::new(Ipv4Addr::UNSPECIFIED, bits).ok().map(|n| n.netmask())
}

/// Lines for a client that is let in, each checked.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lines(Vec<String>);

impl Lines {
    /// All of them; none where one may not be sent: then the client is not let in.
    pub fn of(all: &[Push]) -> Option<Lines> {
        all.iter().map(Push::line).collect::<Option<Vec<String>>>().map(Lines)
    }

    /// As they are sent.
    pub fn as_slice(&self) -> &[String] {
        &self.0
    }
}

/// What a client that is refused is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// Words for the person.
    Words(String),
    /// A question: the client asks its person for a text, and comes again with it as its password (`CRV1`). The state names the question.
    Question { state: String, user: String, words: String },
}

/// A command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Command {
    HoldRelease,
    /// From now on it tells what it logs.
    LogOn,
    /// Who is connected, in columns that tabs part.
    Status,
    /// Lets a client in.
    Auth {
        id: u64,
        key: u64,
        lines: Lines,
    },
    /// Lets it go on with a new key, with what it was told before.
    AuthAgain {
        id: u64,
        key: u64,
    },
    /// Refuses it; `log` is for the server's log.
    Deny {
        id: u64,
        key: u64,
        log: String,
        to_client: Refusal,
    },
    /// Tells it where its person signs in, or what they are asked; it waits for so many seconds.
    Pending {
        id: u64,
        key: u64,
        what: Pending,
        seconds: u32,
    },
    /// Ends it: for good, or so that it connects again.
    Kill {
        id: u64,
        for_good: bool,
    },
}

/// What a client does while it waits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Pending {
    /// It opens an address in a browser.
    WebAuth(String),
    /// It opens an address in a browser, and knows the older word for that alone.
    OpenUrl(String),
    /// It asks its person for a text.
    Text(String),
}

impl Pending {
    fn text(&self) -> String {
        match self {
            Pending::WebAuth(url) => format!("WEB_AUTH::{url}"),
            Pending::OpenUrl(url) => format!("OPEN_URL:{url}"),
            Pending::Text(words) => format!("CR_TEXT:R,E:{words}"),
        }
    }
}

/// A text within quotation marks, without anything that would end it or the line, cut to a length in octets.
fn quoted(text: &str, most: usize) -> String {
    let mut out = String::from("\"");
    for c in text.chars().map(|c| if c.is_control() { ' ' } else { c }) {
        let escape = matches!(c, '"' | '\\');
        if out.len() + c.len_utf8() + usize::from(escape) > most {
            break;
        }
        if escape {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}

impl Command {
    /// As it is sent, with the ends of lines; none where it is longer than the server takes.
    pub fn wire(&self) -> Option<String> {
        let mut out = String::new();
        // A String takes everything.
        let _ = match self {
            Command::HoldRelease => writeln!(out, "hold release"),
            Command::LogOn => writeln!(out, "log on"),
            Command::Status => writeln!(out, "status 3"),
            Command::Auth { id, key, lines } => writeln!(out, "client-auth {id} {key}")
                .and_then(|()| lines.0.iter().try_for_each(|l| writeln!(out, "{l}")))
                .and_then(|()| writeln!(out, "END")),
            Command::AuthAgain { id, key } => writeln!(out, "client-auth-nt {id} {key}"),
            Command::Deny { id, key, log, to_client } => {
                let said = match to_client {
                    Refusal::Words(words) => words.clone(),
                    Refusal::Question { state, user, words } => format!("CRV1:R,E:{state}:{}:{words}", base64(user)),
                };
                writeln!(out, "client-deny {id} {key} {} {}", quoted(log, 200), quoted(&said, super::PENDING_MAX))
            }
            Command::Pending { id, key, what, seconds } => {
                let text = what.text();
                if text.len() > super::PENDING_MAX {
                    return None;
                }
                writeln!(out, "client-pending-auth {id} {key} {} {seconds}", quoted(&text, super::PENDING_MAX + 2))
            }
            Command::Kill { id, for_good: true } => writeln!(out, "client-kill {id} HALT"),
            Command::Kill { id, for_good: false } => writeln!(out, "client-kill {id}"),
        };
        Some(out)
    }
}

fn base64(text: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(push: Push) -> Option<String> {
        Lines::of(&[push]).map(|l| l.as_slice()[0].clone())
    }

    #[test]
    fn what_a_client_is_told_is_written_as_its_configuration() {
        for (push, line) in [
            (Push::Address4([10, 71, 0, 9].into(), 24), "ifconfig-push 10.71.0.9 255.255.255.0"),
            (Push::Address6("fd71::9".parse().unwrap(), 64, "fd71::1".parse().unwrap()), "ifconfig-ipv6-push fd71::9/64 fd71::1"),
            (Push::Route("10.80.4.7/16".parse().unwrap()), "push \"route 10.80.0.0 255.255.0.0\""),
            (Push::Route("fd80::/16".parse().unwrap()), "push \"route-ipv6 fd80::/16\""),
            (Push::Resolver("fd88::2".parse().unwrap()), "push \"dhcp-option DNS6 fd88::2\""),
            (Push::Domain("havrelune.example".into()), "push \"dhcp-option DOMAIN-SEARCH havrelune.example\""),
            (Push::Option("ping 10".into()), "push \"ping 10\""),
            (Push::TokenUser("Zoé \"\n".into()), "push \"auth-token-user Wm/DqSAiCg==\""),
        ] {
            assert_eq!(one(push).as_deref(), Some(line));
        }
    }

    #[test]
    fn nothing_that_ends_a_quotation_or_a_line_is_pushed() {
        for bad in ["", "a b\" up /bin/sh", "a\nup /bin/sh", "a\\", "ä"] {
            assert_eq!(one(Push::Domain(bad.into())), None, "{bad}");
        }
        for bad in ["", "ping 10\"", "ping\n10", "ping\\", "setenv-safe a=b"] {
            assert_eq!(one(Push::Option(bad.into())), None, "{bad}");
        }
        assert_eq!(one(Push::Address4([10, 0, 0, 1].into(), 33)), None);
        assert_eq!(Lines::of(&[Push::Whole, Push::Domain("a b".into())]), None, "one that may not be sent stops all");
    }

    #[test]
    fn a_refusal_says_what_it_says_on_one_line() {
        let deny = |words: &str| {
            let to_client = Refusal::Words(words.into());
            Command::Deny { id: 3, key: 1, log: "no rule".into(), to_client }.wire().unwrap()
        };
        assert_eq!(deny("You are in no group"), "client-deny 3 1 \"no rule\" \"You are in no group\"\n");
        assert_eq!(deny("a\"b\\c\nclient-auth 9 1"), "client-deny 3 1 \"no rule\" \"a\\\"b\\\\c client-auth 9 1\"\n");
        assert!(deny(&"é".repeat(500)).len() < 300);
        assert!(deny(&"\"".repeat(500)).ends_with("\\\"\"\n"), "no half of an escape at the end");
        let to_client = Refusal::Question { state: "q1".into(), user: "anna".into(), words: "Code?".into() };
        let asks = Command::Deny { id: 3, key: 1, log: "asks".into(), to_client }.wire().unwrap();
        assert_eq!(asks, "client-deny 3 1 \"asks\" \"CRV1:R,E:q1:YW5uYQ==:Code?\"\n");
    }

    #[test]
    fn an_address_that_no_client_would_read_whole_is_not_sent() {
        let pending = |n: usize| Command::Pending { id: 1, key: 2, what: Pending::WebAuth("u".repeat(n)), seconds: 60 }.wire();
        let older = Command::Pending { id: 1, key: 2, what: Pending::OpenUrl("https://x/y".to_owned()), seconds: 60 }.wire();
        assert_eq!(older.unwrap(), "client-pending-auth 1 2 \"OPEN_URL:https://x/y\" 60\n");
        assert_eq!(pending(236).unwrap(), format!("client-pending-auth 1 2 \"WEB_AUTH::{}\" 60\n", "u".repeat(236)));
        assert_eq!(pending(237), None);
    }

    #[test]
    fn letting_in_ends_with_its_end() {
        let lines = Lines::of(&[Push::Whole]).unwrap();
        let wire = Command::Auth { id: 4, key: 1, lines }.wire().unwrap();
        assert_eq!(wire, "client-auth 4 1\npush \"redirect-gateway def1 ipv6\"\nEND\n");
        assert_eq!(Command::Kill { id: 4, for_good: true }.wire().unwrap(), "client-kill 4 HALT\n");
    }
}
