//! What strangers can make us keep: bounded by network and in total, and nobody shuts others out by it.

use chrono::{Duration, Utc};
use passeur_store::{DeviceRow, KeptForm, MailedCode, NewParked, Store};

use crate::support::{Database, Person, Stack};

/// Rows of a table, by network.
async fn of(database: &Database, table: &str, network: &str) -> i64 {
    let sql = format!("SELECT count(*) FROM {table} WHERE network = $1");
    database.look().await.query_one(&sql, &[&network]).await.unwrap().get(0)
}

/// Fills a table as if many networks had, each with as many rows as it may.
async fn fill(database: &Database, insert: &str, networks: i32, each: i32) {
    let look = database.look().await;
    let until = std::time::SystemTime::now() + std::time::Duration::from_secs(600);
    let sql = format!("{insert} FROM generate_series(1, $2::int) n, generate_series(1, $3::int) i");
    look.execute(&sql, &[&until, &networks, &each]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn where_a_table_is_full_the_network_that_holds_most_gives_way() {
    let database = Database::new().await;
    let store = Store::open(&database.url, 4).await.unwrap();
    let now = Utc::now();
    let key = "sha256((n || '/' || i)::bytea), 'n' || n";
    let until = now + Duration::minutes(2);
    fill(&database, &format!("INSERT INTO parked (digest, network, sealed, expires_at) SELECT {key}, '', $1"), 10, 200).await;
    let parked = |network: &str, flow: u8| NewParked {
        digest: vec![flow; 32],
        network: network.into(),
        sealed: vec![],
        expires_at: until,
        flow: vec![flow; 32],
    };
    assert_eq!(store.park(parked("n3", 1), now).await.unwrap(), Err(200), "one that has its share gets no more");
    assert_eq!(store.park(parked("honest", 2), now).await.unwrap(), Ok(()));
    assert_eq!(store.park(parked("honest", 3), now).await.unwrap(), Ok(()));
    assert_eq!((of(&database, "parked", "honest").await, database.count("parked").await), (2, 2_000));
    // Flows that were answered: of one network no more than its share, and where all are too many the oldest of whoever has most give
    // way. What somebody else has signed stands outside: it is never forgotten for room.
    let id = "sha256((n || '/' || i)::bytea), 'n' || n";
    fill(&database, &format!("INSERT INTO answered (flow, network, expires_at) SELECT {id}, $1"), 4, 5_000).await;
    assert!(store.use_once(&[9; 32], until).await.unwrap());
    assert_eq!(store.use_flow(&[1; 32], until, ("n3", now)).await.unwrap(), Err(5_000));
    assert_eq!(store.use_flow(&[1; 32], until, ("honest", now)).await.unwrap(), Ok(true));
    assert_eq!(store.use_flow(&[1; 32], until, ("honest", now)).await.unwrap(), Ok(false), "good once");
    assert!(!store.use_once(&[9; 32], until).await.unwrap());
    assert!(database.count("answered").await <= 20_001);
    // The same of the others.
    fill(
        &database,
        &format!(
            "INSERT INTO kept_forms (digest, network, gate, binding, sealed, expires_at) SELECT {key}, 'berths', '', '', $1"
        ),
        20,
        100,
    )
    .await;
    let form = |network: &str, digest: u8| KeptForm {
        digest: vec![digest; 32],
        gate: "berths".into(),
        binding: vec![],
        sealed: vec![],
        expires_at: until,
        network: network.into(),
    };
    assert!(!store.keep_form(form("n1", 1), now).await.unwrap());
    assert!(store.keep_form(form("honest", 2), now).await.unwrap());
    assert_eq!(database.count("kept_forms").await, 2_000);
    fill(
        &database,
        &format!(
            "INSERT INTO device_codes (digest, network, user_code, address, agent, created_at, state, expires_at) \
             SELECT {key}, sha256((n || '/' || i)::bytea), '', '', $1, 'pending', $1"
        ),
        34,
        30,
    )
    .await;
    let device = |network: &str| DeviceRow {
        digest: vec![7; 32],
        user_code: vec![7; 32],
        address: String::new(),
        agent: String::new(),
        created_at: now,
        expires_at: until,
        polled_at: None,
        state: "pending".into(),
        role: None,
        owner_provider: None,
        owner_subject: None,
        owner_name: None,
        network: network.into(),
        owner_authority: None,
    };
    assert!(store.add_device(device("honest")).await.unwrap());
    assert_eq!(of(&database, "device_codes", "honest").await, 1);
    fill(
        &database,
        &format!("INSERT INTO mailed_codes (flow, network, mail, tries_left, expires_at) SELECT {key}, '', 5, $1"),
        50,
        200,
    )
    .await;
    let mailed = |network: &str| MailedCode {
        flow: vec![7; 32],
        code: None,
        mail: vec![],
        tries_left: 5,
        expires_at: until,
        network: network.into(),
    };
    assert!(!store.put_mailed_code(mailed("n9"), now).await.unwrap());
    assert!(store.put_mailed_code(mailed("honest"), now).await.unwrap());
    // Where everybody holds one, there is nobody who holds too many.
    let database = Database::new().await;
    let store = Store::open(&database.url, 4).await.unwrap();
    fill(&database, &format!("INSERT INTO parked (digest, network, sealed, expires_at) SELECT {key}, '', $1"), 2_000, 1).await;
    assert_eq!(store.park(parked("late", 1), now).await.unwrap(), Err(2_000));
    // What is over holds no place.
    let later = Utc::now() + Duration::minutes(11);
    assert_eq!(store.park(parked("late", 1), later).await.unwrap(), Ok(()));
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_no_more_tries_leaves_no_trace_of_the_names_they_try() {
    let stack = Stack::new().await;
    stack.one_window();
    let mut stranger = Person::new();
    let form = crate::ways::form(&stack, &mut stranger, "A code by mail, for visiting ships").await;
    for n in 0..75 {
        let mail = format!("n{n}@nowhere.example");
        let page = stranger.fill_in(&form, &[("mail", &mail)]).await;
        assert_eq!(page.status.as_u16(), if n < 60 { 200 } else { 429 }, "{n}: {}", page.body);
    }
    // One row for the place, and two for each of the sixty names that were looked at.
    assert_eq!(stack.database.count("tries").await, 1 + 2 * 60);
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_of_a_provider_are_not_guessed_for_long() {
    let stack = Stack::new().await;
    stack.one_window();
    let address =
        |sid: &str| stack.pass(&format!("/.passeur/oidc/pilotage/front-channel?iss={}&sid={sid}", stack.provider_origin()));
    let mut stranger = Person::new();
    for n in 0..200 {
        assert_eq!(stranger.open(&address(&format!("guess-{n}"))).await.status, 200);
    }
    assert_eq!(stranger.open(&address("one-more")).await.status, 429);
    assert_eq!(stack.latest().await, ("check-failed".into(), "way.too-many-tries".into()));
}
