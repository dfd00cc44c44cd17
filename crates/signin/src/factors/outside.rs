//! A code that a server of others judges: asking it, and going on where it asks for more.

use std::net::SocketAddr;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use passeur_core::evidence::Evidence;
use passeur_core::identity::identify;
use passeur_core::seal::Purpose;
use passeur_core::site::{OutsideFactor, Site};
use passeur_core::step;
use passeur_core::step::{Param, Silent};
use passeur_engine::outside::{self, GoingOn, Heard};
use passeur_engine::random::random;
use passeur_engine::sessions::Session;
use passeur_links::radius::Says;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::{Kind, More};
use crate::journey::flow::Factor;
use crate::journey::{Answered, Destination, Journey};
use passeur_engine::Engine;

/// How long somebody may take to answer what a server asks besides, in seconds.
const ANSWER_SECONDS: i64 = 180;
/// The longest of what a page hands back.
const SEALED_MAX: usize = 2_000;

/// What came of a try.
pub enum Tried {
    /// What was proven and by what, or why it was not.
    Done(Kind, Result<String, &'static str>),
    /// A server for codes asks for more.
    More(More),
    /// No server for codes answered.
    Silent,
}

/// What the form hands back, sealed.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Asked {
    session: Uuid,
    user: String,
    server: SocketAddr,
    state: String,
    asked_at: i64,
}

/// What somebody is called by servers that judge codes, on the way to a place whose directory may have to say so; none where that is not known, or
/// not one name.
pub fn name_outside(site: &Site, to: &Destination, evidence: &Evidence) -> Option<String> {
    let of = site.factors.as_ref()?.outside.as_ref()?;
    let who = identify(site, to.access(site)?, evidence, &mut Silent);
    match who.attribute(of.name).values() {
        Ok([one]) => Some(one.clone()),
        _ => None,
    }
}

/// Asks about a code of the session's person; what came of it stands in the journey's steps.
pub async fn judged(
    journey: &mut Journey<'_, Answered<Factor>>,
    s: &Session,
    of: &OutsideFactor,
    user: &str,
    (code, handed_back): (&str, &str),
) -> Tried {
    let (desk, engine) = (journey.desk, journey.engine());
    let going_on = match handed_back {
        "" => None,
        sealed => match open(engine, s, of, user, sealed) {
            Some(going_on) => Some(going_on),
            None => return Tried::Done(Kind::Outside, Err("question-over")),
        },
    };
    let heard = outside::ask(engine, of, (user, code.trim()), going_on.as_ref(), desk.visit.facts.address).await;
    let Ok(Heard { tried, says }) = heard else {
        journey.step(|| step!(FactorNoSecret { secret: of.secret.as_str() }));
        return Tried::Silent;
    };
    let tried = tried.iter().map(|(server, why)| format!("{server}: {why}")).collect::<Vec<_>>().join("; ");
    let Some((server, says)) = says else {
        journey.step(|| step!(FactorSilent { tried }));
        return Tried::Silent;
    };
    let (answer, words) = match &says {
        Says::Yes => ("outside-yes", ""),
        Says::No { words } => ("outside-no", words.as_str()),
        Says::More { words, .. } => ("outside-more", words.as_str()),
    };
    let words = [words, &tried].into_iter().filter(|t| !t.is_empty()).collect::<Vec<_>>().join(" — ");
    journey.step(|| step!(FactorAsked { server: server.to_string(), user, answer: Param::reason(answer), words }));
    match says {
        Says::Yes => Tried::Done(Kind::Outside, Ok(server.to_string())),
        Says::No { .. } => Tried::Done(Kind::Outside, Err("code-refused")),
        Says::More { words, state } => {
            let state = STANDARD.encode(state);
            let asked = Asked { session: s.row.id, user: user.to_owned(), server, state, asked_at: engine.now().timestamp() };
            let plain = serde_json::to_vec(&asked).unwrap_or_default();
            Tried::More(More { words, sealed: engine.ring.seal_text(Purpose::Ceremony, random(), &plain) })
        }
    }
}

/// What a form hands back, where it is of this session and person, of late, and of a server that the site still names.
fn open(engine: &Engine, s: &Session, of: &OutsideFactor, user: &str, sealed: &str) -> Option<GoingOn> {
    let plain = engine.ring.open_text(Purpose::Ceremony, sealed, SEALED_MAX).ok()?;
    let asked: Asked = serde_json::from_slice(&plain).ok()?;
    let age = engine.now().timestamp() - asked.asked_at;
    let is_ours = asked.session == s.row.id && asked.user == user && of.servers.contains(&asked.server);
    let state = STANDARD.decode(&asked.state).ok()?;
    (is_ours && (-60..ANSWER_SECONDS).contains(&age)).then_some(GoingOn { server: asked.server, state })
}
