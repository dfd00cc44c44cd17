//! Personal profiles of a gate of kind `vpn`, wired: their page, and a certificate for a key that somebody's browser made.

use axum::response::IntoResponse;
use base64::Engine as _;
use http::{HeaderValue, Response, StatusCode, header};
use passeur_core::circumstances::RequestFacts;
use passeur_core::site::{Gate, Zone};
use passeur_core::text::shorten;
use passeur_engine::profiles::{self, NotMade, PublicKey, Wanted};
use passeur_engine::{rights, sessions};
use passeur_gateway::body::Body;
use passeur_live::edition::Edition;
use passeur_signin::Visit;
use passeur_signin::journey::fresh;
use passeur_signin::pages::{self, Profiles};
use passeur_signin::problem::problem;
use passeur_store::{MadeBy, NotKept, SessionRow, StoreError};
use uuid::Uuid;

use super::{WebGate, plain};

/// Where on a gate's host the page is.
pub(super) const PATH: &str = "/profile";
/// The most profiles that the page lists.
const LISTED: i64 = 100;

/// What the key of a profile signs: of this session at this gate alone.
fn challenge(web: &WebGate, gate: &Gate, session: Uuid) -> String {
    let mac = web.engine.ring.mac("profile", format!("{}\0{session}", gate.name).as_bytes());
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(mac)
}

/// The page, for somebody whom the gate has let in.
pub(super) async fn page(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    session: Uuid,
    facts: &RequestFacts,
) -> Result<Response<Body>, StoreError> {
    let Some(row) = web.engine.store.session(session).await? else {
        return Ok(plain(pages::redirect(&gate.address.at("/"), None)));
    };
    let all = web.engine.store.profiles(Some(&row.person()), Some(&gate.name), None, LISTED).await?;
    let entrances: Vec<&Zone> = edition.site.zones_of(gate).collect();
    let now = web.engine.now();
    let is_fresh = sessions::read_evidence(&row).is_some_and(|e| fresh::is_fresh(&e, now));
    let challenge = challenge(web, gate, session);
    let of = Profiles { who: &row.name, all: &all, entrances: &entrances, challenge: &challenge, is_fresh, now };
    Ok(plain(pages::profiles(&edition.site, gate, facts.lang, &of)))
}

/// What the page loads.
pub(super) fn script() -> Response<Body> {
    let kind = "text/javascript; charset=utf-8";
    plain(([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, "public, max-age=300")], pages::PROFILE_SCRIPT).into_response())
}

/// Certifies the key that somebody's browser made: the configuration of its client, without the key.
pub(super) async fn make(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    session: &SessionRow,
    visit: &Visit,
) -> Result<Response<Body>, StoreError> {
    let no = |status, code, words: &str| plain(problem(status, code, "No profile was made", words).into_response());
    let now = web.engine.now();
    if !sessions::read_evidence(session).is_some_and(|e| fresh::is_fresh(&e, now)) {
        return Ok(no(StatusCode::FORBIDDEN, "not-fresh", "Prove once more who you are, then make it."));
    }
    let bytes = |name: &str| {
        let text = visit.parameter(name)?;
        base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(text).ok()
    };
    let device = shorten(visit.parameter("device").unwrap_or_default().trim(), 40);
    let named = visit.parameter("entrance").unwrap_or_default();
    let entrance = edition.site.zones_of(gate).find(|z| z.name == named);
    let (Some(zone), Some(key), Some(signature)) =
        (entrance, bytes("key").and_then(|k| PublicKey::from_der(&k)), bytes("signature"))
    else {
        return Ok(no(
            StatusCode::BAD_REQUEST,
            "profile",
            "A key on P-256, a signature by it and an entrance of this gate are wanted.",
        ));
    };
    if device.is_empty() || !key.signed(challenge(web, gate, session.id).as_bytes(), &signature) {
        return Ok(no(StatusCode::BAD_REQUEST, "profile", "The machine has no name, or whoever asks does not have the key."));
    }
    let wanted = Wanted {
        gate,
        entrance: zone,
        key,
        device,
        provider: session.provider.clone(),
        person: session.person(),
        name: session.name.clone(),
    };
    let why = match profiles::make(&web.engine, wanted, MadeBy::Person(session.id)).await? {
        Ok(made) => {
            let mut answer = made.configuration.into_response();
            answer.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
            return Ok(plain(answer));
        }
        Err(why) => why,
    };
    Ok(match why {
        NotMade::NoAuthority(_) => no(
            StatusCode::SERVICE_UNAVAILABLE,
            "profile",
            "The gate has no authority to make profiles. Tell the people who run it.",
        ),
        NotMade::NotIssued(_) => no(StatusCode::INTERNAL_SERVER_ERROR, "profile", "The certificate could not be made."),
        NotMade::NotKept(NotKept::Over) => no(StatusCode::FORBIDDEN, "over", "Your session is over."),
        NotMade::NotKept(NotKept::TooMany(most)) => {
            no(StatusCode::CONFLICT, "too-many", &format!("You have {most} profiles already: revoke one that you do not use."))
        }
    })
}

/// Somebody revokes a profile of their own.
pub(super) async fn revoke(
    web: &WebGate,
    gate: &Gate,
    session: &SessionRow,
    visit: &Visit,
) -> Result<Response<Body>, StoreError> {
    if let Some(id) = visit.parameter("id").and_then(|t| t.parse::<Uuid>().ok()) {
        let at = (web.engine.now(), session.name.as_str());
        let (_, on) = web.engine.store.revoke_profiles(&[id], Some(&session.person()), at, None).await?;
        for session in on {
            rights::changed(&web.engine, session).await?;
        }
    }
    Ok(plain(pages::redirect(&gate.address.at(PATH), None)))
}
