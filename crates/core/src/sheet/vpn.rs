//! For the team of the VPN servers by whose entrances people come to a gate of kind `vpn`: what to write in each server's configuration.

use ipnet::IpNet;

use super::network::opened;
use super::{Part, Row, Sheet};
use crate::site::{Gate, Profiles, Site, Tunnel, Zone};

pub(super) fn sheet(site: &Site, gate: &Gate) -> Sheet {
    let mut parts: Vec<Part> = vec![];
    for (zone, tunnel) in site.zones_of(gate).filter_map(|z| Some((z, z.tunnel()?))) {
        parts.push(Part { code: "enter", heading: "Please enter", rows: of_server(zone, tunnel) });
    }
    let has_servers = !parts.is_empty();
    if has_servers {
        parts.push(Part { code: "receive", heading: "What rules may open", rows: opened(site, gate) });
    }
    let radius = super::radius::parts(site, gate);
    let what = match (has_servers, radius.is_empty()) {
        (true, false) => "VPN servers and RADIUS clients",
        (false, false) => "RADIUS clients",
        _ => "an OpenVPN server",
    };
    parts.extend(radius);
    Sheet {
        title: format!("{}, {what} for the gate {}", gate.title, gate.name),
        state: String::new(),
        connected: true,
        parts,
        steps: steps(gate, has_servers),
    }
}

fn steps(gate: &Gate, has_servers: bool) -> Vec<String> {
    if !has_servers {
        return vec![
            "Ask with the gateway's own test, for somebody who may come in and for somebody who may not.".to_owned(),
            format!(
                "passeur crossings --gate {} tells both, with every attribute; also what was not answered, and why.",
                gate.name
            ),
        ];
    }
    vec![
        "Connect with a client: it opens a browser, and the crossing tells every step. At an entrance with trial = true nothing opens."
            .to_owned(),
        "passeur present list says who is on; passeur survey says whether the server is as it should be.".to_owned(),
    ]
}

fn of_server(zone: &Zone, tunnel: &Tunnel) -> Vec<Row> {
    let row = Row::new;
    let mut out = vec![row(
        "Interface",
        format!("dev {}", zone.interface),
        format!("entrance {} in the site file; make it beforehand for the server's user, with its first addresses", zone.name),
    )];
    for network in &zone.networks {
        out.push(match network {
            IpNet::V4(n) => {
                // The server takes no second network beside nopool.
                let nopool = if zone.networks.len() == 1 { " nopool" } else { "" };
                let line = format!("server {} {}{nopool}", n.network(), n.netmask());
                row("IPv4", line, "each machine is given its address by Passeur".to_owned())
            }
            IpNet::V6(n) => row("IPv6", format!("server-ipv6 {}", n.trunc()), "the same place in both networks".to_owned()),
        });
    }
    if let Some(first) = tunnel.servers.first() {
        let line = format!("proto {}, port {}", first.transport.word(), first.port);
        out.push(row("Where clients come", line, format!("they reach it at {first}")));
    }
    let management = format!("management /run/passeur-tunnels/{}.sock unix", zone.name);
    let (certificate, why) = match tunnel.profiles {
        Profiles::Personal => (
            "verify-client-cert require",
            "ca is the gate's own authority: passeur profile authority prints it, passeur profile server certifies the server's key",
        ),
        Profiles::Shared => {
            ("verify-client-cert none", "or require: a certificate that everybody has proves nothing about anybody")
        }
    };
    let hand_window = format!("hand-window {}", tunnel.patience.num_seconds());
    for (label, line, why) in [
        ("Addresses", "topology subnet", "one address of a family for each machine"),
        ("Management", management.as_str(), "in a folder that nobody else enters: whoever speaks there lets people in"),
        ("Who comes in", "management-client-auth", "is asked of Passeur"),
        ("Before Passeur is there", "management-hold", "nobody comes in"),
        ("Passwords", "auth-user-pass-optional", "people sign in in a browser; a client has none to send"),
        (
            "Coming back",
            "auth-gen-token 0 external-auth",
            "a client that was cut off shows it, and Passeur says whether it still counts",
        ),
        ("Certificates", certificate, why),
        ("Several machines", "duplicate-cn", "a person may have more than one on"),
        ("Time to sign in", hand_window.as_str(), "the server cuts off whoever takes longer, whatever Passeur says"),
        ("Who is gone", "keepalive 10 60", "is noticed within two minutes"),
        ("Privilege", "ifconfig-noexec", "the server changes no interface, and runs as a user without any right"),
    ] {
        out.push(row(label, line.to_owned(), why.to_owned()));
    }
    out
}
