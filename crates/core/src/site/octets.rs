//! Values that are bytes, not text: how a directory's object identifiers are written.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// How bytes are written as text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Octets {
    /// Sixteen bytes in the order of RFC 9562 4.
    Uuid,
    /// Sixteen bytes whose first three fields are little-endian, as `objectGUID` holds them ([MS-DTYP] 2.3.4.2).
    Guid,
    /// A security identifier, `S-1-…` ([MS-DTYP] 2.4.2).
    Sid,
    Hex,
    /// RFC 4648 4.
    Base64,
}

impl Octets {
    /// Words of the site file.
    pub(crate) const WORDS: [(&'static str, Octets); 5] =
        [("uuid", Octets::Uuid), ("guid", Octets::Guid), ("sid", Octets::Sid), ("hex", Octets::Hex), ("base64", Octets::Base64)];

    /// The bytes as text; none when they are not of this form.
    pub fn text(self, bytes: &[u8]) -> Option<String> {
        match self {
            Octets::Uuid => bytes.try_into().ok().map(grouped),
            Octets::Guid => {
                let mut b: [u8; 16] = bytes.try_into().ok()?;
                b[0..4].reverse();
                b[4..6].reverse();
                b[6..8].reverse();
                Some(grouped(b))
            }
            Octets::Sid => sid(bytes),
            Octets::Hex => Some(crate::id::hex(bytes)),
            Octets::Base64 => Some(STANDARD.encode(bytes)),
        }
    }
}

fn grouped(bytes: [u8; 16]) -> String {
    let hex = crate::id::hex(&bytes);
    [&hex[0..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..32]].join("-")
}

/// Revision, count, six bytes of authority, then sub-authorities of four bytes, little-endian.
fn sid(bytes: &[u8]) -> Option<String> {
    let (head, rest) = bytes.split_first_chunk::<8>()?;
    let count = usize::from(head[1]);
    if count > 15 || rest.len() != count * 4 {
        return None;
    }
    let authority = head[2..8].iter().fold(0u64, |a, b| (a << 8) | u64::from(*b));
    let mut out = format!("S-{}-{authority}", head[0]);
    for part in rest.chunks_exact(4) {
        out.push_str(&format!("-{}", part.iter().rev().fold(0u32, |a, b| (a << 8) | u32::from(*b))));
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_are_written_as_their_form_says() {
        let sixteen: Vec<u8> = (0..16).collect();
        let sid: Vec<u8> = [
            &[1, 5, 0, 0, 0, 0, 0, 5][..],
            &21u32.to_le_bytes(),
            &1_004_336_348u32.to_le_bytes(),
            &1_177_238_915u32.to_le_bytes(),
            &682_003_330u32.to_le_bytes(),
            &512u32.to_le_bytes(),
        ]
        .concat();
        for (form, bytes, text) in [
            (Octets::Uuid, &sixteen[..], Some("00010203-0405-0607-0809-0a0b0c0d0e0f")),
            (Octets::Guid, &sixteen[..], Some("03020100-0504-0706-0809-0a0b0c0d0e0f")),
            (Octets::Uuid, &sixteen[..15], None),
            (Octets::Guid, &[], None),
            (Octets::Sid, &sid[..], Some("S-1-5-21-1004336348-1177238915-682003330-512")),
            (Octets::Sid, &sid[..27], None),
            (Octets::Sid, &[1, 200, 0, 0, 0, 0, 0, 5], None),
            (Octets::Sid, &[1], None),
            (Octets::Hex, &[0xff, 0x00], Some("ff00")),
            (Octets::Base64, &[0xff, 0x00], Some("/wA=")),
        ] {
            assert_eq!(form.text(bytes).as_deref(), text, "{form:?}");
        }
    }
}
