//! What is known of a tunnel that asks to be opened: the entrance, and what its client says of itself. What a client says is a claim, and no
//! proof; only a certificate of the gate's own is proven, in the handshake.

use serde::{Deserialize, Serialize};

use crate::device::Device;
use crate::text::shorten;

/// What stands for a request method in the crossing of a tunnel.
pub const METHOD: &str = "TUNNEL";
/// The longest address that a client can be told to open, in octets: the VPN server's own limit on such a message, without its word.
pub const ADDRESS_MAX: usize = 237;
/// What comes after a gate's address in it, in octets.
pub const ASK_LEN: usize = "/connect?ask=".len() + crate::id::Token::LEN;
/// The longest that is kept of anything that a client says.
const SAYS_MAX: usize = 60;

/// See the module.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct TunnelFacts {
    /// The name of the entrance.
    pub entrance: String,
    /// The platform, as the client names it: `linux`, `win`, `mac`, `ios`, `android`.
    pub platform: Option<String>,
    /// The client's version.
    pub version: Option<String>,
    /// The number of the personal profile whose certificate the client proved to have.
    pub profile: Option<String>,
    /// The device that it runs on, where a check asks about it. A crossing keeps it with its evidence, and not with the rest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<Device>,
}

impl TunnelFacts {
    /// At an entrance, with what a client says of itself: cut to a length, and to what can be shown on one line.
    pub fn new(entrance: &str, platform: Option<&str>, version: Option<&str>) -> TunnelFacts {
        let plain = |text: &str| {
            let kept: String = text.chars().filter(|c| c.is_ascii_graphic()).collect();
            Some(shorten(&kept, SAYS_MAX)).filter(|t| !t.is_empty())
        };
        TunnelFacts {
            entrance: entrance.to_owned(),
            platform: platform.and_then(plain).map(|p| p.to_ascii_lowercase()),
            version: version.and_then(plain),
            profile: None,
            device: None,
        }
    }

    /// Somebody's tunnel that nobody asked for: as an engineer describes it.
    pub fn described(entrance: &str, platform: Option<&str>, version: Option<&str>, has_profile: bool) -> TunnelFacts {
        let profile = has_profile.then(|| "described by hand".to_owned());
        TunnelFacts { profile, ..TunnelFacts::new(entrance, platform, version) }
    }

    /// As the target of a request that nobody sent, so that a crossing keeps it and a rehearsal finds it.
    pub fn as_target(&self) -> String {
        let part = |of: &Option<String>| of.as_deref().map_or_else(|| "-".to_owned(), escape);
        format!("/{}/{}/{}/{}", self.entrance, part(&self.platform), part(&self.version), part(&self.profile))
    }

    /// From what a crossing keeps; none where it tells of no tunnel.
    pub fn of_target(method: &str, target: &str) -> Option<TunnelFacts> {
        let mut parts = target.strip_prefix('/').filter(|_| method == METHOD)?.split('/');
        let entrance = parts.next()?.to_owned();
        let mut part = || {
            let text = parts.next().filter(|p| *p != "-")?;
            url::form_urlencoded::parse(format!("v={text}").as_bytes()).next().map(|(_, v)| v.into_owned())
        };
        Some(TunnelFacts { entrance, platform: part(), version: part(), profile: part(), device: None })
    }

    /// What the client says of itself, in one line that is the same in every language.
    pub fn words(&self) -> String {
        let said: Vec<&str> = [&self.platform, &self.version].into_iter().filter_map(Option::as_deref).collect();
        said.join(" ")
    }
}

/// As one part of a path; a lone hyphen stands for nothing.
fn escape(text: &str) -> String {
    let out: String = url::form_urlencoded::byte_serialize(text.as_bytes()).collect();
    if out == "-" { "%2D".to_owned() } else { out }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_crossing_keeps_of_a_tunnel_is_read_again() {
        for facts in [
            TunnelFacts::new("pilots", Some("linux"), Some("2.6.14")),
            TunnelFacts::new("pilots", None, None),
            TunnelFacts::new("pilots", Some("-"), Some("a/b")),
            TunnelFacts { profile: Some("41".into()), ..TunnelFacts::new("pilots-trial", Some("a&b=c?d#e"), None) },
        ] {
            assert_eq!(TunnelFacts::of_target(METHOD, &facts.as_target()), Some(facts));
        }
        assert_eq!(TunnelFacts::of_target("GET", "/pilots/linux/-/-"), None);
    }

    #[test]
    fn what_a_client_says_is_cut_to_a_line() {
        let facts = TunnelFacts::new("pilots", Some("Li\nnux\u{1b}[31m"), Some(&"9".repeat(500)));
        assert_eq!(facts.platform.as_deref(), Some("linux[31m"));
        assert!(facts.version.as_ref().is_some_and(|v| v.len() <= SAYS_MAX + 3));
        assert_eq!(TunnelFacts::new("pilots", Some("\u{7}"), Some("")).words(), "");
    }
}
