//! Who is connected, as the server answers `status 3`: columns that tabs part, named by a line before them.

use std::net::{IpAddr, SocketAddr};

/// The most clients that are read.
const CLIENTS_MAX: usize = 65_536;

/// A client that is connected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Connected {
    pub id: u64,
    /// Where it connects from.
    pub from: Option<IpAddr>,
    /// The addresses that it was given; none while it waits to be let in.
    pub addresses: Vec<IpAddr>,
    /// Octets from it, and to it.
    pub up: u64,
    pub down: u64,
}

/// Reads the lines of an answer. A client that cannot be read has no number, and nobody could end it: it is left out.
pub fn read_status<'a>(lines: impl IntoIterator<Item = &'a str>) -> Vec<Connected> {
    let mut columns: Vec<&str> = vec![];
    let mut out = vec![];
    for line in lines {
        let mut parts = line.split('\t');
        match parts.next() {
            Some("HEADER") if parts.next() == Some("CLIENT_LIST") => columns = parts.collect(),
            Some("CLIENT_LIST") => {
                let values: Vec<&str> = parts.collect();
                let value = |name: &str| columns.iter().position(|c| *c == name).and_then(|i| values.get(i)).copied();
                let Some(id) = value("Client ID").and_then(|v| v.parse().ok()) else { continue };
                let address = |name: &str| value(name).and_then(|v| v.parse::<IpAddr>().ok());
                let number = |name: &str| value(name).and_then(|v| v.parse().ok()).unwrap_or(0);
                out.push(Connected {
                    id,
                    from: value("Real Address").and_then(outside),
                    addresses: ["Virtual Address", "Virtual IPv6 Address"].iter().filter_map(|n| address(n)).collect(),
                    up: number("Bytes Received"),
                    down: number("Bytes Sent"),
                });
            }
            _ => {}
        }
        if out.len() >= CLIENTS_MAX {
            break;
        }
    }
    out
}

/// An address as the server writes it: `192.0.2.1:1194`, `[2001:db8::1]:1194`, `2001:db8::1`, some with the protocol before them.
fn outside(text: &str) -> Option<IpAddr> {
    let bare = text
        .rsplit_once(':')
        .filter(|(p, _)| p.starts_with("udp") || p.starts_with("tcp"))
        .map_or(text, |_| text.split_once(':').map_or(text, |(_, rest)| rest));
    bare.parse::<SocketAddr>().map(|s| s.ip()).or_else(|_| bare.parse::<IpAddr>()).ok().map(|a| a.to_canonical())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_is_connected_is_read_by_the_names_of_columns() {
        let lines = "TITLE\tOpenVPN 2.6.14\nTIME\t2026-12-01 08:24:36\t1796113476\n\
            HEADER\tCLIENT_LIST\tCommon Name\tReal Address\tVirtual Address\tVirtual IPv6 Address\tBytes Received\tBytes Sent\tConnected Since\tConnected Since (time_t)\tUsername\tClient ID\tPeer ID\tData Channel Cipher\n\
            CLIENT_LIST\tclient\t10.91.0.2:57005\t10.93.0.77\t\t2197\t2376\t2026-12-01 08:24:33\t1796113473\tUNDEF\t0\t0\tAES-256-GCM\n\
            CLIENT_LIST\tother\tudp6:[2001:db8::5]:1194\t10.93.0.78\tfd93::78\t5\t6\t\t\tUNDEF\t12\t1\t\n\
            CLIENT_LIST\twaits\tudp4:192.0.2.9:999\t\t\t0\t0\t\t\tUNDEF\t13\t2\t\n\
            CLIENT_LIST\tbad\t?\t?\t\tx\ty\t\t\tUNDEF\t-\t2\t\n\
            HEADER\tROUTING_TABLE\tVirtual Address\tCommon Name\nROUTING_TABLE\t10.93.0.77\tclient\nEND";
        let ip = |t: &str| t.parse::<IpAddr>().unwrap();
        let client = |id, from, addresses, up, down| Connected { id, from: Some(from), addresses, up, down };
        assert_eq!(
            read_status(lines.lines()),
            [
                client(0, ip("10.91.0.2"), vec![ip("10.93.0.77")], 2197, 2376),
                client(12, ip("2001:db8::5"), vec![ip("10.93.0.78"), ip("fd93::78")], 5, 6),
                client(13, ip("192.0.2.9"), vec![], 0, 0),
            ]
        );
        assert_eq!(read_status(["CLIENT_LIST\ta\tb\tc"]), [], "without a header nobody knows what is what");
    }
}
