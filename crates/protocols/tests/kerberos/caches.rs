use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_protocols::kerberos::{BadCache, Cache, Shown};
use proptest::prelude::*;

/// A ticket as a KDC gave it.
fn ticket() -> Vec<u8> {
    let field = include_str!("data/negotiate.b64");
    match Shown::of_token(STANDARD.decode(field.trim()).unwrap()) {
        Shown::Ticket { ticket, .. } => ticket.der,
        other => panic!("{other:?}"),
    }
}

fn long(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_be_bytes()[..], bytes].concat()
}

fn principal(components: &[&str], realm: &str) -> Vec<u8> {
    let mut out = [1u32.to_be_bytes(), (components.len() as u32).to_be_bytes()].concat();
    out.extend(long(realm.as_bytes()));
    components.iter().for_each(|c| out.extend(long(c.as_bytes())));
    out
}

/// One ticket of a cache (file formats 0503 and 0504).
fn held(version: u8, service: &[&str], realm: &str, flags: u32, sealed: &[u8]) -> Vec<u8> {
    let mut out = [principal(&["anouk"], "HAVRELUNE.EXAMPLE"), principal(service, realm)].concat();
    out.extend(18u16.to_be_bytes());
    if version == 3 {
        out.extend(18u16.to_be_bytes());
    }
    out.extend(long(&[9; 32]));
    for time in [1_800_000_000u32, 0, 1_800_036_000, 1_800_600_000] {
        out.extend(time.to_be_bytes());
    }
    out.push(0);
    out.extend(flags.to_be_bytes());
    // One address, and one thing that the KDC added.
    out.extend([&1u32.to_be_bytes()[..], &2u16.to_be_bytes(), &long(&[127, 0, 0, 1])].concat());
    out.extend([&1u32.to_be_bytes()[..], &1u16.to_be_bytes(), &long(&[0; 5])].concat());
    out.extend(long(sealed));
    out.extend(long(&[]));
    out
}

fn file(version: u8, held: &[Vec<u8>]) -> Vec<u8> {
    let mut out = vec![5, version];
    if version == 4 {
        // The KDC's clock was 90 s ahead; and a field that nobody knows.
        let field = [&1u16.to_be_bytes()[..], &8u16.to_be_bytes(), &90i32.to_be_bytes(), &[0; 4]].concat();
        let other = [&7u16.to_be_bytes()[..], &2u16.to_be_bytes(), &[1, 2]].concat();
        out.extend(((field.len() + other.len()) as u16).to_be_bytes());
        out.extend(field);
        out.extend(other);
    }
    out.extend(principal(&["anouk"], "HAVRELUNE.EXAMPLE"));
    held.iter().for_each(|h| out.extend(h));
    out
}

#[test]
fn tickets_are_told_without_the_tickets() {
    for version in [3, 4] {
        let bytes = file(
            version,
            &[
                held(version, &["krbtgt", "HAVRELUNE.EXAMPLE"], "HAVRELUNE.EXAMPLE", 0x40c1_0000, &ticket()),
                held(version, &["krb5_ccache_conf_data", "fast_avail"], "X-CACHECONF:", 0, b"yes"),
                held(version, &["HTTP", "pass.havrelune.localhost"], "HAVRELUNE.EXAMPLE", 0, b"no ticket"),
            ],
        );
        let cache = Cache::read(&bytes).unwrap();
        assert_eq!(cache.owner.to_string(), "anouk@HAVRELUNE.EXAMPLE");
        assert_eq!(cache.ahead.map(|a| a.num_seconds()), (version == 4).then_some(90));
        let [granting, service] = &cache.held[..] else { panic!("{cache:?}") };
        assert!(granting.grants() && granting.forwardable() && granting.renewable() && !granting.forwarded());
        assert!(!service.grants() && !service.forwardable() && !service.renewable());
        assert_eq!(granting.starts, granting.proven, "no start of its own is the time of the proof");
        assert_eq!((granting.ends.unwrap() - granting.starts.unwrap()).num_hours(), 10);
        let outside = granting.outside.as_ref().unwrap();
        assert_eq!((outside.enctype, outside.kvno), (20, Some(2)));
        assert_eq!(service.outside, None);
        assert!(Cache::is_one(&bytes));
        assert!(!format!("{cache:?}").contains("9, 9, 9"));
    }
}

#[test]
fn what_is_no_cache_or_is_cut_off_is_told() {
    let whole = file(4, &[held(4, &["a"], "R", 0, b"")]);
    assert!(Cache::read(&whole).is_ok());
    let empty = file(4, &[]).len();
    for cut in 2..whole.len() {
        match Cache::read(&whole[..cut]) {
            Ok(cache) => assert!(cut == empty && cache.held.is_empty(), "{cut}"),
            Err(e) => assert!(matches!(e, BadCache::Damaged { at } if at <= cut), "{cut}: {e:?}"),
        }
    }
    for (bytes, why) in [
        (b"".to_vec(), BadCache::NoCache),
        (vec![5], BadCache::NoCache),
        (vec![5, 1, 0], BadCache::Old),
        (vec![5, 2, 0], BadCache::Old),
        (vec![5, 5, 0], BadCache::NoCache),
        (vec![0; (1 << 22) + 1], BadCache::TooLong),
    ] {
        assert_eq!(Cache::read(&bytes), Err(why), "{:?}", &bytes[..bytes.len().min(6)]);
    }
}

#[test]
fn counts_that_lie_take_no_memory() {
    // Sixteen components at most, a thousand parts at most, and lengths beyond the end.
    let mut many = vec![5, 3];
    many.extend([1u32.to_be_bytes(), u32::MAX.to_be_bytes()].concat());
    assert!(Cache::read(&many).is_err());
    let mut lies = file(3, &[]);
    lies.extend(principal(&["a"], "R"));
    lies.extend([0, 0, 0, 1, 0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff]);
    assert!(Cache::read(&lies).is_err());
}

proptest! {
    #[test]
    fn any_bytes_are_read_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..400), version in 1u8..6) {
        let _ = Cache::read(&[&[5, version][..], &bytes].concat());
    }
}
