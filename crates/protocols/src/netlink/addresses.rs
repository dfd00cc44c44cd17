//! The addresses of this machine's interfaces; rtnetlink(7), RTM_GETADDR.

use std::net::IpAddr;

use super::{DUMP, Malformed, REQUEST, Told, Writer, address, attributes, told};

const NEW: u16 = 20;
const GET: u16 = 22;

/// An interface, by number, has an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Own {
    pub interface: u32,
    pub address: IpAddr,
}

/// Asks for every address of both families.
pub fn ask(sequence: u32) -> Vec<u8> {
    let mut w = Writer::default();
    w.message(GET, REQUEST | DUMP, sequence, |w| w.0.extend([0; 8]));
    w.0
}

/// Reads what came from the socket. Families that are not of IP are left out.
///
/// # Errors
/// It is cut short or says lengths that it does not have.
pub fn read(octets: &[u8]) -> Result<Vec<Told<Own>>, Malformed> {
    told(octets, |message| {
        if message.kind != NEW {
            return Ok(None);
        }
        let head: &[u8; 8] = message.body.first_chunk().ok_or(Malformed::Short(message.kind))?;
        let all = attributes(&message.body[8..])?;
        let value = |kind| all.iter().find(|(k, _)| *k == kind).map(|(_, v)| *v);
        // The local one, where the other is that of a peer.
        let address = value(2).or_else(|| value(1)).and_then(address);
        let interface = u32::from_ne_bytes([head[4], head[5], head[6], head[7]]);
        Ok(address.map(|address| Own { interface, address }))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_local_address_counts_where_the_other_is_a_peers() {
        let mut w = Writer::default();
        w.message(NEW, 2, 1, |w| {
            w.0.extend([2, 24, 0, 0]);
            w.0.extend(3u32.to_ne_bytes());
            w.attribute(1, &[10, 0, 0, 2]);
            w.attribute(2, &[10, 0, 0, 1]);
        });
        w.message(NEW, 2, 1, |w| {
            w.0.extend([10, 64, 0, 0]);
            w.0.extend(3u32.to_ne_bytes());
            w.attribute(1, &[0xfd; 16]);
        });
        w.message(NEW, 2, 1, |w| w.0.extend([9, 0, 0, 0, 3, 0, 0, 0]));
        let told = read(&w.0).unwrap();
        assert_eq!(told.len(), 2);
        assert_eq!(told[0], Told::One(Own { interface: 3, address: IpAddr::from([10, 0, 0, 1]) }));
        assert_eq!(read(&w.0[..30]), Err(Malformed::Length { said: 40, left: 30 }));
    }
}
