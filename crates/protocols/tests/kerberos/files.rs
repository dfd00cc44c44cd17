use passeur_protocols::kerberos::{BadKeytab, Keytab, Principal};
use proptest::prelude::*;

/// One record of a keytab (file format 0502).
fn record(components: &[&str], realm: &str, kvno: u32, enctype: u16, long: bool) -> Vec<u8> {
    let text = |t: &str| [&(t.len() as u16).to_be_bytes()[..], t.as_bytes()].concat();
    let mut out = (components.len() as u16).to_be_bytes().to_vec();
    out.extend(text(realm));
    components.iter().for_each(|c| out.extend(text(c)));
    out.extend(1u32.to_be_bytes());
    out.extend(1_800_000_000u32.to_be_bytes());
    out.push(kvno as u8);
    out.extend(enctype.to_be_bytes());
    out.extend(32u16.to_be_bytes());
    out.extend([7; 32]);
    if long {
        out.extend(kvno.to_be_bytes());
    }
    [&(out.len() as i32).to_be_bytes()[..], &out].concat()
}

fn file(records: &[Vec<u8>]) -> Vec<u8> {
    [&[5, 2][..], &records.concat()].concat()
}

#[test]
fn keys_are_told_without_the_keys() {
    let hole = [&(-10i32).to_be_bytes()[..], &[0xff; 10]].concat();
    let bytes = file(&[
        record(&["HTTP", "pass.havrelune.example"], "HAVRELUNE.EXAMPLE", 2, 18, false),
        hole,
        record(&["HTTP", "pass.havrelune.example"], "HAVRELUNE.EXAMPLE", 300, 20, true),
        record(&["host", "a"], "R", 1, 23, true),
        vec![0, 0, 0, 0, 9, 9],
    ]);
    let keytab = Keytab::read(&bytes).unwrap();
    let all: Vec<_> = keytab.keys.iter().map(|k| (k.principal.to_string(), k.kvno, k.enctype)).collect();
    let pass = "HTTP/pass.havrelune.example@HAVRELUNE.EXAMPLE";
    assert_eq!(all, [(pass.into(), 2, 18), (pass.into(), 300, 20), ("host/a@R".into(), 1, 23)]);
    assert_eq!(keytab.keys[0].written.unwrap().timestamp(), 1_800_000_000);
    assert_eq!(keytab.principals().len(), 2);
    assert_eq!(keytab.of(&Principal::parse(pass).unwrap()).count(), 2);
    assert!(Keytab::is_one(&bytes));
    assert!(!format!("{keytab:?}").contains("7, 7, 7"));
}

#[test]
fn what_is_no_keytab_is_told_with_where() {
    let good = file(&[record(&["a"], "R", 1, 18, true)]);
    for (bytes, why) in [
        (b"".to_vec(), BadKeytab::NoKeytab),
        (b"-----BEGIN".to_vec(), BadKeytab::NoKeytab),
        (vec![5, 1, 0], BadKeytab::Old),
        (vec![5, 2], BadKeytab::Empty),
        (good[..good.len() - 1].to_vec(), BadKeytab::Damaged { at: 2 }),
        ([&[5, 2][..], &i32::MIN.to_be_bytes()].concat(), BadKeytab::Damaged { at: 2 }),
        ([&[5, 2][..], &i32::MAX.to_be_bytes(), &[1; 9]].concat(), BadKeytab::Damaged { at: 2 }),
        ([&[5, 2][..], &4i32.to_be_bytes(), &[0xff; 4]].concat(), BadKeytab::Damaged { at: 2 }),
        ([&[5, 2][..], &vec![0; (1 << 20) + 1]].concat(), BadKeytab::TooLong),
    ] {
        assert_eq!(Keytab::read(&bytes), Err(why), "{:?}", &bytes[..bytes.len().min(12)]);
    }
}

proptest! {
    #[test]
    fn any_bytes_are_read_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
        let _ = Keytab::read(&bytes);
        let _ = Keytab::read(&[&[5, 2][..], &bytes].concat());
    }
}
