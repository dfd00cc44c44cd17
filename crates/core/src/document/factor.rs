//! Reading of `site::factor` from a document.

use std::net::SocketAddr;

use chrono::Duration;

use super::delivery::attribute;
use super::fields::Fields;
use super::names::Names;
use super::reach::several;
use crate::address::network;
use crate::site::{OutsideFactor, OwnFactors};

/// The most servers for codes: they are asked one after another while a person waits.
const SERVERS_MAX: usize = 5;

/// Reads `[factors]`.
pub(crate) fn read(root: &Fields<'_, '_>, names: &Names<'_>) -> Option<OwnFactors> {
    let f = root.table("factors")?;
    let mut enrol_from = vec![];
    for text in f.texts("enrol-from").unwrap_or_default() {
        match network(&text) {
            Some(n) => enrol_from.push(n),
            None => f.error("enrol-from", format!("\"{text}\" is no network"), "Write networks such as \"10.20.0.0/16\"."),
        }
    }
    let outside = f.table("outside");
    let has_outside = outside.is_some();
    let outside = outside.and_then(|o| read_outside(&o, names));
    let out = OwnFactors { totp: f.flag("totp", true), passkeys: f.flag("passkeys", true), enrol_from, outside };
    if !out.totp && !out.passkeys && !has_outside {
        f.error("totp", "no kind of factor is on".into(), "Switch one on, or take [factors] away.");
    }
    f.finish();
    Some(out)
}

fn read_outside(f: &Fields<'_, '_>, names: &Names<'_>) -> Option<OutsideFactor> {
    let mut servers: Vec<SocketAddr> = vec![];
    for text in several(f, "servers", "\"192.0.2.20:1812\"") {
        match text.parse::<SocketAddr>() {
            Ok(server) if crate::guard::check_peer(server.ip()).is_err() || server.port() == 0 => {
                f.error("servers", format!("nobody is asked at {server}"), "Write the address and port of the server.");
            }
            Ok(server) if servers.contains(&server) => {
                f.error("servers", format!("{server} stands twice"), "Keep one of them.");
            }
            Ok(server) => servers.push(server),
            Err(_) => f.error(
                "servers",
                format!("\"{text}\" is no address with a port"),
                "Write them as \"192.0.2.20:1812\" or \"[2001:db8::20]:1812\".",
            ),
        }
    }
    if servers.len() > SERVERS_MAX {
        f.error(
            "servers",
            format!("there are {} servers", servers.len()),
            format!("Use at most {SERVERS_MAX}: a person waits for them."),
        );
    }
    let secret = f.need("secret", "\"fob-server\"");
    let name = f.need("name", "\"user\"").and_then(|n| attribute(f, "name", &n, names));
    let seconds = Duration::seconds;
    let within = f.duration("within", seconds(3), seconds(1), seconds(10));
    let title = f.need("title", "\"the code of your key fob\"");
    f.finish();
    Some(OutsideFactor { title: title?, servers, secret: secret?, name: name?, within })
}
