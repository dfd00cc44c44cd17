use chrono::{DateTime, Duration, Utc};
use passeur_protocols::kerberos::{Fault, Key, Keytab, Opened, Principal, Ticket};

fn now() -> DateTime<Utc> {
    "2026-11-26T12:00:00Z".parse().unwrap()
}

fn ticket(service: &str, kvno: Option<u32>, enctype: i32) -> Ticket {
    Ticket { service: Principal::parse(service).unwrap(), enctype, kvno, der: vec![], proof: (18, vec![]) }
}

fn key(principal: &str, kvno: u32, enctype: i32) -> Key {
    Key { principal: Principal::parse(principal).unwrap(), kvno, enctype, written: None }
}

const OURS: &str = "HTTP/pass.havrelune.example@HAVRELUNE.EXAMPLE";

#[test]
fn the_first_thing_that_an_engineer_would_look_for_is_named() {
    let keys = Keytab { keys: vec![key(OURS, 2, 18), key(OURS, 3, 20), key("HTTP/old.havrelune.example@OLD.EXAMPLE", 1, 18)] };
    let hosts = ["pass.havrelune.example".to_owned(), "other.havrelune.example".to_owned()];
    let at = |minutes: i64| now() + Duration::minutes(minutes);
    let opened = |starts, ends, made: Option<i64>| Opened { starts: at(starts), ends: at(ends), made: made.map(at) };
    let good = opened(-60, 60, Some(0));
    let fault = |t: &Ticket, o: Option<&Opened>| Fault::of(t, &keys, &hosts, o, now(), Duration::minutes(5));
    let p = |text: &str| Principal::parse(text).unwrap();
    assert_eq!(fault(&ticket(OURS, Some(2), 18), Some(&good)), None);
    assert_eq!(fault(&ticket(OURS, None, 20), Some(&good)), None, "a KDC that names no version");
    for asked in [
        "HTTP/else.havrelune.example@HAVRELUNE.EXAMPLE",
        "host/pass.havrelune.example@HAVRELUNE.EXAMPLE",
        "HTTP@HAVRELUNE.EXAMPLE",
        "HTTP/pass.havrelune.example/x@R",
    ] {
        let wanted = vec!["HTTP/pass.havrelune.example".to_owned(), "HTTP/other.havrelune.example".to_owned()];
        assert_eq!(
            fault(&ticket(asked, Some(2), 18), Some(&good)),
            Some(Fault::WrongService { asked: p(asked), wanted }),
            "{asked}"
        );
    }
    let foreign = "HTTP/pass.havrelune.example@FOREIGN.EXAMPLE";
    let known = vec!["HAVRELUNE.EXAMPLE".to_owned(), "OLD.EXAMPLE".to_owned()];
    assert_eq!(fault(&ticket(foreign, Some(2), 18), None), Some(Fault::RealmUnknown { realm: "FOREIGN.EXAMPLE".into(), known }));
    let other = "HTTP/other.havrelune.example@HAVRELUNE.EXAMPLE";
    assert!(matches!(fault(&ticket(other, Some(2), 18), None), Some(Fault::NoKey { wanted, .. }) if wanted == p(other)));
    assert_eq!(
        fault(&ticket(OURS, Some(4), 18), None),
        Some(Fault::KeyVersion { principal: p(OURS), wanted: 4, has: vec![2, 3] })
    );
    assert_eq!(fault(&ticket(OURS, Some(2), 20), None), Some(Fault::Enctype { principal: p(OURS), wanted: 20, has: vec![18] }));
    assert_eq!(fault(&ticket(OURS, Some(3), 20), None), Some(Fault::KeyDiffers { principal: p(OURS), kvno: Some(3) }));
    for (opened, wanted) in [
        (opened(-60, 60, Some(4)), None),
        (opened(-60, 60, Some(6)), Some(Fault::Clock { seconds: 360 })),
        (opened(-60, 60, Some(-6)), Some(Fault::Clock { seconds: -360 })),
        (opened(6, 60, Some(0)), Some(Fault::NotYet { starts: at(6) })),
        (opened(4, 60, Some(0)), None),
        (opened(-60, -6, Some(0)), Some(Fault::Expired { ended: at(-6) })),
        (opened(-60, -4, Some(0)), None),
        (opened(-60, 60, None), None),
    ] {
        assert_eq!(fault(&ticket(OURS, Some(2), 18), Some(&opened)), wanted, "{opened:?}");
    }
}
