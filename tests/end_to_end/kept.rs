//! What is kept, and what must never be.

use chrono::{DateTime, Duration, Utc};
use passeur_store::{PresenceRow, QuarterRow, Store};
use uuid::Uuid;

use crate::support::{Person, Stack, env, eventually};

/// Every row of every table, as text.
async fn dump(stack: &Stack) -> String {
    let client = stack.database.look().await;
    let tables = client.query("SELECT tablename::text FROM pg_tables WHERE schemaname = 'public'", &[]).await.unwrap();
    let mut out = String::new();
    for t in tables {
        let table: String = t.get(0);
        for row in client.query(&format!("SELECT t::text FROM {table} t"), &[]).await.unwrap() {
            out.push_str(&row.get::<_, String>(0));
            out.push('\n');
        }
    }
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn no_secret_lies_in_the_store_in_clear() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    let page = anouk.open(&stack.gate("/")).await;
    let back = anouk.prove(page, "anouk").await;
    let answer = back.header("location").to_owned();
    let link = anouk.until(back, "/.passeur/arrive").await;
    stack.settle().await;
    let before = dump(&stack).await;
    anouk.open(&link).await;
    stack.settle().await;
    let all = format!("{before}{}", dump(&stack).await);
    let parameter = |url: &str, name: &str| {
        url::Url::parse(url).unwrap().query_pairs().find(|(n, _)| n == name).map(|(_, v)| v.into_owned()).unwrap()
    };
    let mut secrets = vec![
        "ebb-and-flow-of-the-demo".to_owned(),
        env("PASSEUR_TEST_LDAP_PASSWORD"),
        stack.token.clone(),
        parameter(&answer, "code"),
        parameter(&answer, "state"),
        parameter(&link, "code"),
        "eyJ".to_owned(), // how every id_token begins
    ];
    // Which way in the browser took is no secret.
    let held = |(name, value): (String, String)| (name != "passeur-way").then_some(value);
    secrets.extend(
        anouk
            .cookies
            .iter()
            .filter(|(h, _)| h.ends_with("havrelune.localhost"))
            .flat_map(|(_, jar)| jar.clone())
            .filter_map(held),
    );
    assert!(all.contains("p-1001") && all.contains("uid=anouk"), "the dump holds what it should");
    for secret in secrets {
        assert!(secret.len() >= 3 && !all.contains(&secret), "{}… lies in the store", &secret[..3]);
        // bytea columns show as hexadecimal
        let hex: String = secret.bytes().map(|b| format!("{b:02x}")).collect();
        assert!(secret.len() < 8 || !all.contains(&hex), "{}… lies in the store as bytes", &secret[..3]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn old_days_are_dropped_whole_and_a_newer_database_is_refused() {
    let stack = Stack::new().await;
    let store = passeur_store::Store::open(&stack.database.url, 2).await.unwrap();
    let today = stack.clock.now().date_naive();
    store.make_partitions(today - chrono::Days::new(100)).await.unwrap();
    store.make_partitions(today).await.unwrap();
    assert_eq!(store.drop_partitions(today - chrono::Days::new(90)).await.unwrap(), 8, "two tables, four days");
    assert_eq!(store.drop_partitions(today - chrono::Days::new(90)).await.unwrap(), 0);
    let client = stack.database.look().await;
    client.execute("INSERT INTO __diesel_schema_migrations (version) VALUES ('29990101000000')", &[]).await.unwrap();
    let refused = passeur_store::Store::open(&stack.database.url, 1).await.unwrap_err();
    assert_eq!(refused, passeur_store::StoreError::Newer("29990101000000".into()));
}

/// A machine without a person that came on at a moment.
fn machine(n: u32, gate: &str, began: DateTime<Utc>) -> PresenceRow {
    PresenceRow {
        id: Uuid::from_u128(u128::from(n)),
        session_id: None,
        gate: gate.into(),
        zone: "yard".into(),
        node: "another".into(),
        interface: "yard0".into(),
        hardware: None,
        address: format!("10.70.1.{n}"),
        mark: n as i32,
        provider: "machine".into(),
        authority: "machine".into(),
        subject: n.to_string(),
        name: n.to_string(),
        crossing: String::new(),
        reach: serde_json::json!([]),
        began,
        until: None,
        quota: None,
        rate: None,
        up: 0,
        down: 0,
        counted_at: began,
        ended_at: None,
        ended_by: None,
        groups: vec![],
        tunnel: None,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_day_on_networks_counts_every_machine_and_every_octet_once() {
    let stack = Stack::new().await;
    let store = Store::open(&stack.database.url, 2).await.unwrap();
    let at = |hour: i64, minute: i64| {
        DateTime::UNIX_EPOCH + Duration::days(20_000) + Duration::hours(hour) + Duration::minutes(minute)
    };
    // On before the day, for a moment within one quarter, over its edge, and still.
    for (n, gate, began, ended) in [
        (1, "yard", at(-30, 0), Some(at(0, 5))),
        (2, "yard", at(9, 1), Some(at(9, 2))),
        (3, "pier", at(9, 14), Some(at(9, 16))),
        (4, "yard", at(9, 50), None),
        (5, "yard", at(-40, 0), Some(at(-30, 0))),
    ] {
        store.enter(machine(n, gate, began), i64::MAX).await.unwrap();
        if let Some(at) = ended {
            store.leave(&[Uuid::from_u128(u128::from(n))], at, "ended").await.unwrap();
        }
    }
    let four = Uuid::from_u128(4);
    store.counted(&[(four, 100, 1_000)], at(9, 51)).await.unwrap();
    store.counted(&[(four, 150, 1_000)], at(9, 59)).await.unwrap();
    store.counted(&[(four, 151, 9_000)], at(10, 1)).await.unwrap();
    // Whoever is over counts no more.
    store.counted(&[(Uuid::from_u128(2), 7, 7)], at(10, 2)).await.unwrap();
    let day = store.day_of_networks(at(10, 5), None).await.unwrap();
    assert_eq!((day.len(), day[0].at, day[95].at), (96, at(-14, 15), at(10, 0)));
    let told = |day: &[QuarterRow], at: DateTime<Utc>| {
        let q = day.iter().find(|q| q.at == at).unwrap();
        (q.machines, q.people, q.up, q.down)
    };
    assert_eq!(told(&day, at(-14, 15)), (1, 0, 0, 0));
    assert_eq!(told(&day, at(0, 15)), (0, 0, 0, 0));
    assert_eq!(told(&day, at(9, 0)), (2, 0, 0, 0));
    assert_eq!(told(&day, at(9, 15)), (1, 0, 0, 0));
    assert_eq!(told(&day, at(9, 45)), (1, 0, 150, 1_000));
    assert_eq!(told(&day, at(10, 0)), (1, 0, 1, 8_000));
    let pier = store.day_of_networks(at(10, 5), Some("pier")).await.unwrap();
    assert_eq!((told(&pier, at(9, 0)), told(&pier, at(9, 45))), ((1, 0, 0, 0), (0, 0, 0, 0)));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_was_on_a_network_is_kept_as_long_as_crossings() {
    let mut stack = Stack::new().await;
    let store = Store::open(&stack.database.url, 2).await.unwrap();
    let now = stack.clock.now();
    for (n, days) in [(1, 92), (2, 88)] {
        store.enter(machine(n, "yard", now - Duration::days(days)), i64::MAX).await.unwrap();
        store.leave(&[Uuid::from_u128(u128::from(n))], now - Duration::days(days - 1), "ended").await.unwrap();
    }
    stack.restart().await;
    let ids = [Uuid::from_u128(1), Uuid::from_u128(2)];
    eventually("what is too old is forgotten", async || {
        let kept = store.presences_by_id(&ids).await.unwrap();
        kept.iter().map(|p| p.id).eq([ids[1]])
    })
    .await;
    assert_eq!(store.addresses_of(&ids).await.unwrap().len(), 1);
}
