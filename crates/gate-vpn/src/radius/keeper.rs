//! Looks after who is on at RADIUS clients: whom the rules or an engineer put out is put out at the client, and told until it says so.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::Duration as Span;
use passeur_core::Moment;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::{ending, sessions};
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{PresenceRow, RadiusRow, StoreError};
use serde_json::json;
use tokio::sync::watch;
use tokio::time::{MissedTickBehavior, interval};
use uuid::Uuid;

use super::RadiusGate;
use super::accounting::extend;
use super::again::{Given, Next};
use super::book::Present;
use super::names::in_order;
use super::orders::{Came, Order, order};

/// How often it is looked whether anything is to be done.
const LOOK_EVERY: Duration = Duration::from_millis(100);
/// How often it is read who is on.
const READ_EVERY: Duration = Duration::from_secs(5);
/// How often it is read what is told of them.
const HEAR_EVERY: Duration = Duration::from_secs(30);
/// A node that was not seen for so long is gone, and its sessions are looked after by another.
const NODE_GONE: Span = Span::seconds(10);
/// After an order that was not carried out, the next comes no sooner.
const REST: Duration = Duration::from_secs(30);
/// A client may say that it does not know a session of which it hears just now.
const YOUNG: Span = Span::seconds(10);
/// What could not be done is tried again after that.
const TRY_AGAIN: Duration = Duration::from_secs(1);
/// What time alone may change is looked at no more often.
const TIME_EVERY: Duration = Duration::from_secs(10);
/// A client that tells what passes, and then nothing for so many of its intervals, tells no more.
const MISSED: i32 = 3;
/// How long after its last moment a session may be told of.
const GRACE: Span = Span::seconds(60);

/// What is done about a session.
enum Task {
    /// Its client is ordered to end it.
    PutOut,
    /// It is decided on anew.
    Decide(Arc<Edition>),
}

/// Runs until `stop` changes.
pub async fn run(gate: RadiusGate, mut stop: watch::Receiver<bool>) {
    let ticks = |every| {
        let mut t = interval(every);
        t.set_missed_tick_behavior(MissedTickBehavior::Delay);
        t
    };
    let (mut look, mut read, mut hear) = (ticks(LOOK_EVERY), ticks(READ_EVERY), ticks(HEAR_EVERY));
    loop {
        tokio::select! {
            _ = look.tick() => gate.look().await,
            () = gate.news.notified() => gate.look().await,
            _ = read.tick() => if let Err(e) = gate.read().await {
                tracing::warn!(error = %e, "who is on at RADIUS clients cannot be read");
            },
            _ = hear.tick() => if let Err(e) = gate.hear().await {
                tracing::warn!(error = %e, "what RADIUS clients tell cannot be read");
            },
            _ = stop.changed() => return,
        }
    }
}

impl RadiusGate {
    /// Takes somebody into the book who was just let in.
    ///
    /// # Errors
    /// Those of the store.
    pub(super) async fn note(&self, row: PresenceRow, at: RadiusRow) -> Result<Option<Arc<LiveSession>>, StoreError> {
        let Some(edition) = self.engine.live.get() else { return Ok(None) };
        let present = self.known(&edition, row, at).await?;
        let live = present.live.clone();
        self.book.note(present);
        Ok(live)
    }

    /// What is known of a session at a client.
    async fn known(&self, edition: &Edition, row: PresenceRow, at: RadiusRow) -> Result<Present, StoreError> {
        let site = &edition.site;
        let client = site.radius_client(&at.client).cloned();
        let bond = client.as_ref().and_then(|c| self.bond(c));
        let address = row.tunnel.as_ref().and_then(|t| t["outside"].as_str()?.parse::<IpAddr>().ok());
        let live = match row.session_id {
            Some(session) => sessions::by_id(&self.engine, session).await?.map(|(_, live)| live),
            None => None,
        };
        let now = self.engine.now();
        // A session that is not there at all is over.
        let doomed = (row.session_id.is_some() && live.is_none()).then_some("ended");
        Ok(Present {
            limits: site.lifetimes_at(address, site.gate(&row.gate)),
            moved: now,
            account: at.account(),
            since: now,
            row,
            at,
            live,
            good_until: None,
            client,
            bond,
            decided: None,
            looked_at: None,
            busy: false,
            rests_until: None,
            doomed,
        })
    }

    /// Reads who is on, and takes over whose node is gone.
    async fn read(&self) -> Result<(), StoreError> {
        let Some(edition) = self.engine.live.get() else { return Ok(()) };
        let (store, node) = (&self.engine.store, &self.engine.node);
        store.adopt_at_clients(node, self.engine.now() - NODE_GONE).await?;
        let read_at = self.engine.now();
        let open = store.at_clients_of(node).await?;
        let new = self.book.keep(&open, read_at);
        for part in new.chunks(500) {
            for (row, at) in store.at_clients(part).await? {
                self.book.note(self.known(&edition, row, at).await?);
            }
        }
        // A secret may have come after its session was read.
        for id in self.book.of(|p| p.bond.is_none() && p.client.is_some()) {
            self.book.change(id, |p| p.bond = p.client.as_ref().and_then(|c| self.bond(c)));
        }
        self.book.touch(self.engine.now());
        Ok(())
    }

    async fn look(&self) {
        let Some(edition) = self.engine.live.get() else { return };
        let (now, instant) = (self.engine.now(), Instant::now());
        for id in self.book.of(|p| p.is_ready(instant) && p.is_over(now).is_some()) {
            self.begin(id, Task::PutOut);
        }
        let is_due = |p: &Present| {
            let rested = |span| p.looked_at.is_none_or(|at| at + span <= instant);
            let by_time = p.good_until.is_some_and(|g| g <= now) && rested(TIME_EVERY);
            let by_change = p.decided != Some(edition.number) && rested(TRY_AGAIN);
            p.row.session_id.is_some() && !p.busy && p.is_over(now).is_none() && (by_change || by_time)
        };
        for id in self.book.of(is_due) {
            self.begin(id, Task::Decide(edition.clone()));
        }
    }

    /// Does something about a session, beside everything else, where nothing is done about it just now.
    fn begin(&self, id: Uuid, task: Task) {
        let Some(present) = self.book.take(id) else { return };
        let own = self.clone();
        tokio::spawn(async move {
            let done = match &task {
                Task::PutOut => {
                    let why = present.is_over(own.engine.now()).unwrap_or("ended");
                    own.end_there(&present, why).await
                }
                Task::Decide(edition) => own.decide(edition, &present).await,
            };
            if let Err(e) = done {
                let client = present.at.client;
                tracing::error!(error = %e, client, "a session at a RADIUS client cannot be seen to just now; it is tried again");
                own.book.change(id, |p| p.rests_until = Some(Instant::now() + TRY_AGAIN));
            }
            own.book.change(id, |p| p.busy = false);
            own.news.notify_one();
        });
    }

    /// Decides on somebody anew, and has their client told.
    async fn decide(&self, edition: &Edition, present: &Present) -> Result<(), StoreError> {
        let Ok(_one) = self.deciding.acquire().await else { return Ok(()) };
        self.book.change(present.row.id, |p| p.looked_at = Some(Instant::now()));
        let (attributes, given) = match self.again(edition, present).await? {
            Next::Nothing => return Ok(()),
            Next::Change(attributes, given) => (attributes, given),
        };
        let Some(live) = &present.live else { return Ok(()) };
        // Whoever is put out in the meantime does not wait for a client that is silent.
        let ended = async {
            loop {
                let woken = live.woken();
                if live.is_ended() {
                    return;
                }
                woken.await;
            }
        };
        tokio::select! {
            changed = self.change(present, Order::Change(attributes), given) => changed,
            () = ended => Ok(()),
        }
    }

    async fn end_there(&self, present: &Present, why: &'static str) -> Result<(), StoreError> {
        let id = present.row.id;
        // Nobody else holds the session: it is over everywhere.
        if let Some(session) = present.row.session_id.filter(|_| !present.live.as_ref().is_some_and(|l| l.is_ended())) {
            ending::end_here(&self.engine, &[session], "its lifetime", None).await?;
        }
        let came = self.send(present, Order::End).await?;
        let now = self.engine.now();
        let is_young = now - present.row.began < YOUNG;
        let rest = match came {
            Some(Came::Done) => None,
            Some(Came::Nobody) if !is_young => None,
            Some(Came::Nobody) => Some(Duration::from_secs(1)),
            // Its own clock ends it, and nothing more is told of it.
            _ if is_past(present, now) => None,
            _ => Some(REST),
        };
        match rest {
            None => {
                self.engine.store.leave(&[id], now, why).await?;
                self.book.forget(id);
            }
            Some(rest) => {
                self.book.change(id, |p| p.rests_until = Some(Instant::now() + rest));
            }
        }
        Ok(())
    }

    /// Orders a client to change what a session may. One that does not is ordered to end it: it may do more there than the rules say.
    async fn change(&self, present: &Present, order: Order, given: Given) -> Result<(), StoreError> {
        let id = present.row.id;
        match self.send(present, order).await? {
            Some(Came::Done) => {
                self.book.change(id, |p| (p.at.given, p.row) = (given.words.clone(), (*given.row).clone()));
                self.engine.store.given_at_client(&given.row, &given.words).await
            }
            _ => {
                self.book.change(id, |p| p.doomed = Some("refused-now"));
                Ok(())
            }
        }
    }

    /// Sends an order, and tells what came of it where that is news. None where the client takes no orders.
    async fn send(&self, present: &Present, what: Order) -> Result<Option<Came>, StoreError> {
        // Its number may have been told since it was let in.
        let Some((row, at)) = self.engine.store.at_clients(&[present.row.id]).await?.pop() else { return Ok(Some(Came::Nobody)) };
        if row.ended_at.is_some() {
            // Another session of the same number may be on there since.
            return Ok(Some(Came::Nobody));
        }
        let client = at.client.as_str();
        let port = present.client.as_ref().and_then(|c| c.orders);
        let to = port.zip(at.sends_from.parse::<IpAddr>().ok()).map(|(port, ip)| std::net::SocketAddr::new(ip, port));
        // The secret may have changed since; one whose client is no more of this edition is kept here.
        let current = present.client.as_ref().and_then(|c| self.bond(c));
        let told = || Param::reason(what.code());
        let Some(to) = to else {
            let until = present.row.until.map_or_else(|| "—".to_owned(), |u| u.format("%Y-%m-%d %H:%M UTC").to_string());
            self.ordered(present, &what, "none", step!(RadiusNotOrdered { client, what: told(), until })).await?;
            return Ok(None);
        };
        let Some(bond) = current.as_ref().or(present.bond.as_ref()) else {
            let step = match present.client.as_ref().and_then(|c| c.secret()) {
                Some(secret) => step!(RadiusOrderNoSecret { client, what: told(), secret }),
                None => step!(RadiusOrderNoTls { client, what: told(), node: self.engine.node.as_str() }),
            };
            // It is tried again: the secret may come, or a node that speaks TLS may take over.
            self.ordered(present, &what, Came::Silent.state(), step).await?;
            return Ok(Some(Came::Silent));
        };
        let own = self.own.iter().find(|a| a.is_ipv4() == to.is_ipv4()).copied();
        let came = {
            let (_one, _of_all) = (self.orders_to(client).acquire_owned().await, self.ordering.acquire().await);
            order(to, own, bond, &what, in_order(&at), self.engine.now()).await
        };
        let (told, says) = (told(), came.says());
        let step = match came {
            Came::Done | Came::Nobody => step!(RadiusOrdered { client, what: told, to: to.to_string(), says }),
            Came::Refused(_) | Came::Silent => step!(RadiusDisobeyed { client, what: told, to: to.to_string(), says }),
        };
        self.ordered(present, &what, came.state(), step).await?;
        Ok(Some(came))
    }

    /// Writes what came of an order; in the crossing where it is news.
    async fn ordered(&self, present: &Present, what: &Order, state: &str, step: Step) -> Result<(), StoreError> {
        let id = present.row.id;
        let before = self.book.get(id).and_then(|p| p.at.ordered).unwrap_or_default();
        let is_news = before["what"] != what.code() || before["state"] != state;
        let tries = if is_news { 1 } else { before["tries"].as_i64().unwrap_or(0) + 1 };
        let ordered = json!({"what": what.code(), "state": state, "tries": tries, "at": self.engine.now()});
        self.engine.store.order_at_client(id, &ordered).await?;
        self.book.change(id, |p| p.at.ordered = Some(ordered));
        if is_news {
            tracing::info!(
                event = "radius.ordered",
                client = present.at.client,
                what = what.code(),
                state,
                "a RADIUS client was ordered"
            );
            extend(self, &present.row, step).await?;
        }
        Ok(())
    }

    /// Reads what clients tell, and ends those of whom one told what passes, and tells nothing more.
    async fn hear(&self) -> Result<(), StoreError> {
        let now = self.engine.now();
        let (open, tells) = (self.book.of(|p| !p.busy && p.is_over(now).is_none()), self.book.who_tells());
        for part in open.chunks(500) {
            for (row, at) in self.engine.store.at_clients(part).await? {
                let account = at.account();
                let client = self.book.change(row.id, |p| {
                    if account.up > p.account.up || account.down > p.account.down {
                        p.moved = now;
                    }
                    p.account.clone_from(&account);
                    (p.client.clone(), p.since)
                });
                let Some((client, since)) = client else { continue };
                let interval = client.map_or(Span::hours(1), |c| c.interim);
                // While this service did not listen, nobody could tell it anything.
                let silent = account.heard.filter(|_| account.interim).map(|heard| now - heard.max(since));
                // Whoever was let in and did not come in, at a client that tells of others.
                let never =
                    account.heard.is_none() && tells.contains(&at.client) && now - row.began.max(since) > interval + GRACE;
                let is_unheard = never || silent.is_some_and(|s| s > interval * MISSED + GRACE);
                let is_unknown_and_old = row.session_id.is_none() && now - row.began > Span::days(1) && silent.is_none();
                if is_unheard || is_unknown_and_old {
                    let minutes = silent.unwrap_or(now - row.began).num_minutes();
                    extend(self, &row, step!(RadiusUnheard { client: at.client.as_str(), minutes })).await?;
                    self.unheard(&row).await?;
                }
            }
        }
        Ok(())
    }

    async fn unheard(&self, row: &PresenceRow) -> Result<(), StoreError> {
        if row.session_id.is_some() {
            // It may be open there all the same, and the client deaf: it is told once more.
            self.book.change(row.id, |p| p.doomed = Some("unheard"));
            return Ok(());
        }
        self.book.forget(row.id);
        self.engine.store.leave(&[row.id], self.engine.now(), "unheard").await.map(|_| ())
    }
}

/// Whether the client ended it by its own clock: its last moment is over, and nothing is told of it since.
fn is_past(present: &Present, now: Moment) -> bool {
    let heard = present.account.heard;
    let past = |until: Moment| now > until + GRACE && heard.is_none_or(|h| h < until + GRACE);
    // Whoever does not say a word, and is not heard of, is not looked for.
    present.row.until.is_some_and(past) || present.doomed == Some("unheard")
}
