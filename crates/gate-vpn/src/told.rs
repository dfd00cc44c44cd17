//! What a client is told: its addresses and what leads into the tunnel where it is let in, and words where it is not.

use std::net::Ipv4Addr;

use passeur_core::id::CrossingId;
use passeur_core::site::{Destination, Gate, Site, Tunnel};
use passeur_engine::tunnel::Outcome;
use passeur_gate_network::tunnels::Far;
use passeur_protocols::openvpn::{Lines, Push};

use crate::pool::Pool;

/// What the client of a machine that is let through is told, with its first address; in words as well, but for its addresses and how it comes
/// back. None where something may not be sent.
pub fn lines(site: &Site, tunnel: &Tunnel, pool: &Pool, far: &Far) -> Option<(Ipv4Addr, Lines, Vec<String>)> {
    let (address, reach) = (far.row.address.parse::<Ipv4Addr>().ok()?, &far.reach);
    let mut all = vec![Push::Address4(address, pool.first.prefix_len())];
    if let (Some(second), Some(network), (_, Some(server))) = (pool.second_of(address), pool.second, pool.server()) {
        all.push(Push::Address6(second, network.prefix_len(), server));
    }
    all.push(Push::TokenUser(far.row.name.clone()));
    let own = all.len();
    // A machine without an address of a family sends nothing of it.
    let fits = |n: &ipnet::IpNet| n.addr().is_ipv4() || pool.second.is_some();
    if tunnel.whole {
        all.push(Push::Whole);
    } else if tunnel.routes.is_empty() {
        // Where it may go is where it sends into the tunnel.
        let networks = reach.iter().filter_map(|r| site.reach(r)).flat_map(|r| &r.to);
        for network in networks.filter_map(|d| if let Destination::Network(n) = d { Some(n.trunc()) } else { None }).filter(fits)
        {
            if !all.contains(&Push::Route(network)) {
                all.push(Push::Route(network));
            }
        }
    } else {
        all.extend(tunnel.routes.iter().map(ipnet::IpNet::trunc).filter(fits).map(Push::Route));
    }
    all.extend(tunnel.dns.iter().map(|a| Push::Resolver(*a)));
    all.extend(tunnel.domains.iter().map(|d| Push::Domain(d.clone())));
    all.extend(tunnel.options.iter().map(|o| Push::Option(o.as_str().to_owned())));
    let lines = Lines::of(&all)?;
    let plain = |l: &String| l.trim_start_matches("push ").trim_matches('"').to_owned();
    let words = lines.as_slice().iter().skip(own).map(plain).collect();
    Some((address, lines, words))
}

/// What the person of a client that is not let in reads there.
pub fn refusal(outcome: &Outcome) -> String {
    let more = |crossing: &CrossingId| format!(" Number of this crossing: {crossing}.");
    match outcome {
        Outcome::Refused { words, crossing } => {
            let words = words.as_deref().unwrap_or("The rules do not let you in here.");
            format!("{words}{}", crossing.parse().map(|c| more(&c)).unwrap_or_default())
        }
        Outcome::Full { machines } => {
            format!("You have as many tunnels on as you may: {}. End one of them first.", machines.join(", "))
        }
        Outcome::QuotaUsed => "What may pass for you within a day is used up.".to_owned(),
        Outcome::Over => "Your session is over. Connect again, and sign in.".to_owned(),
        Outcome::Denied => "The person who was asked said that this tunnel is not theirs.".to_owned(),
        Outcome::Failed => "The tunnel could not be opened. Whoever looks after it sees why.".to_owned(),
        Outcome::Late | Outcome::On { .. } => "Connect again.".to_owned(),
    }
}

/// What a client asks its person that can open no browser.
pub fn question(gate: &Gate) -> String {
    format!("Open {} in a browser, sign in, and type the code that it shows", gate.address.at("/"))
}
