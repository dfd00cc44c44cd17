//! What is kept, and what must never be.

use crate::support::{Person, Stack, env};

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
