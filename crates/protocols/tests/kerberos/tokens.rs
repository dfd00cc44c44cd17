use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_protocols::kerberos::{Proof, Shown, bindings};
use proptest::prelude::*;

/// What a browser sent to a service of the demo's realm; its keys are gone.
const FIELD: &str = include_str!("data/negotiate.b64");

fn token() -> Vec<u8> {
    STANDARD.decode(FIELD.trim()).unwrap()
}

#[test]
fn a_real_token_says_which_service_it_is_for_and_by_which_key() {
    let Some(Shown::Ticket { ticket, token: whole }) = Shown::read(format!("Negotiate {FIELD}").as_bytes()) else { panic!() };
    assert_eq!(ticket.service.to_string(), "HTTP/pass.havrelune.localhost@HAVRELUNE.EXAMPLE");
    assert_eq!((ticket.enctype, ticket.kvno, ticket.proof.0), (20, Some(2), 18));
    assert_eq!(whole, token());
    assert!(whole.windows(ticket.der.len()).any(|w| w == ticket.der));
    // The scheme is a token, of any case (RFC 9110 11.1).
    assert!(matches!(Shown::read(format!("nEGOTIATE   {FIELD}").as_bytes()), Some(Shown::Ticket { .. })));
    assert_eq!(Shown::read(b"Basic abc"), None);
    assert_eq!(Shown::read(b"NegotiateX abc"), None);
    assert_eq!(Shown::read(b"\xff\xfe"), None);
}

#[test]
fn a_proof_says_when_it_was_made() {
    // Authenticator ::= [APPLICATION 2] SEQUENCE { [0] 5, [1] realm, [2] name, [4] cusec, [5] ctime } (RFC 4120 5.5.1)
    let mut inside = vec![0xa0, 3, 2, 1, 5, 0xa1, 3, 0x1b, 1, b'R', 0xa2, 7, 0x30, 5, 0xa0, 3, 2, 1, 1];
    inside.extend([0xa4, 3, 2, 1, 9, 0xa5, 17, 0x18, 15]);
    inside.extend(b"20261126215616Z");
    let der = [&[0x62, inside.len() as u8 + 2, 0x30, inside.len() as u8][..], &inside].concat();
    assert_eq!(Proof::read(&der).unwrap().made.to_rfc3339(), "2026-11-26T21:56:16+00:00");
    for cut in 0..der.len() {
        assert_eq!(Proof::read(&der[..cut]), None, "{cut}");
    }
}

#[test]
fn whatever_is_cut_off_is_told_and_nothing_breaks() {
    let token = token();
    for cut in 0..token.len() {
        let shown = Shown::of_token(token[..cut].to_vec());
        assert!(matches!(shown, Shown::Unreadable(_) | Shown::Other { .. }), "{cut}: {shown:?}");
    }
    // Lengths that lie, and no depth to fall into.
    assert!(matches!(Shown::of_token([0x60, 0x84, 0xff, 0xff, 0xff, 0xff].to_vec()), Shown::Unreadable(_)));
    assert!(matches!(Shown::of_token([0x60, 0x80, 0x06, 0x00].repeat(8000)), Shown::Unreadable(_)));
    let long = format!("Negotiate {}", "A".repeat(70_000));
    assert_eq!(Shown::read(long.as_bytes()), Some(Shown::Unreadable("too-long")));
}

#[test]
fn a_certificate_is_bound_by_the_hash_of_its_own_signature() {
    for (algorithm, length) in
        [(&rcgen::PKCS_ECDSA_P256_SHA256, 32), (&rcgen::PKCS_ECDSA_P384_SHA384, 48), (&rcgen::PKCS_RSA_SHA512, 64)]
    {
        let key = rcgen::KeyPair::generate_for(algorithm).unwrap();
        let der = rcgen::CertificateParams::new(vec!["a.example".into()]).unwrap().self_signed(&key).unwrap();
        let bound = bindings::end_point(der.der()).unwrap();
        let digest = bound.strip_prefix(b"tls-server-end-point:".as_slice()).unwrap();
        assert_eq!(digest.len(), length);
    }
    // RFC 5929 leaves open what a signature without a hash of its own means.
    let key = rcgen::KeyPair::generate_for(&rcgen::PKCS_ED25519).unwrap();
    let der = rcgen::CertificateParams::new(vec!["a.example".into()]).unwrap().self_signed(&key).unwrap();
    assert_eq!(bindings::end_point(der.der()), None);
    assert_eq!(bindings::end_point(b"no certificate"), None);
}

proptest! {
    #[test]
    fn any_bytes_are_read_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
        let _ = Shown::of_token(bytes.clone());
        let _ = Proof::read(&bytes);
        let _ = Shown::read(&bytes);
    }

    #[test]
    fn a_byte_that_changed_makes_another_ticket_or_none(at in 0usize..800, bit in 0u8..8) {
        let mut token = token();
        let at = at % token.len();
        token[at] ^= 1 << bit;
        let _ = Shown::of_token(token);
    }
}
