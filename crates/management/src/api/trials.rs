//! Trial sign-ins: begun, and read.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, TrialBrought, TrialGate, TrialRaw, TrialSignIn, TrialSignInRequest};
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::{deciding, headline};
use passeur_core::evidence::Evidence;
use passeur_core::id::Token;
use passeur_core::identity::identify;
use passeur_core::rehearse::try_at;
use passeur_core::role::Role;
use passeur_core::site::{Access, Place, Site, Speaks};
use passeur_core::step::{Lang, StepCode, Story, sentence};
use passeur_store::TrialRow;

use super::auth::Engineer;
use super::crossings::show;
use super::errors::{ApiError, problem};
use super::extract::{Json, Path};
use super::rehearse::fare;
use super::sites::{document, sound};
use crate::app::App;
use crate::computing::off_the_data_path;
use passeur_signin::trial::{self, Brought, OPEN_FOR};

/// Steps that say that an application gets less than it could.
const LESS: [StepCode; 2] = [StepCode::HeaderOmitted, StepCode::HeaderRefused];

/// Begins a trial sign-in. Nothing is switched, and nobody is let in anywhere by it.
#[utoipa::path(post, operation_id = "begin_trial_sign_in", path = "/trials/sign-in", request_body = TrialSignInRequest,
    responses((status = 200, body = TrialSignIn), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn begin(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<TrialSignInRequest>,
) -> Result<Json<TrialSignIn>, ApiError> {
    who.may(Role::Configure)?;
    let of_live = ask.source.document.is_none() && !ask.source.draft && ask.source.edition.is_none();
    let document = document(&app, ask.source).await?;
    let site = sound(&app, &who, &document).await?;
    if site.provider(&ask.provider).is_none() {
        let words = format!("There is no provider \"{}\" in {}.", ask.provider, document.name);
        return Err(problem(StatusCode::NOT_FOUND, "no-provider", "No such provider", &words));
    }
    let (token, now) = (app.new_token(), app.now());
    let row = TrialRow {
        digest: token.digest().to_vec(),
        provider: ask.provider.clone(),
        source: document.name.clone(),
        document: (!of_live).then_some(document.text),
        begun_by: who.name.clone(),
        begun: now,
        expires_at: now + OPEN_FOR,
        result: None,
    };
    let act = who.act(&app, "trial sign-in", serde_json::json!({"provider": ask.provider, "source": document.name}));
    if !app.store.begin_trial(row.clone(), act).await? {
        let words = "Too many trials are open; they end an hour after they were begun.";
        return Err(problem(StatusCode::TOO_MANY_REQUESTS, "trials", "Not now", words));
    }
    Ok(Json(shown(&app, &token, row, Some(&site), None)))
}

/// A trial sign-in, with all that came back.
#[utoipa::path(get, operation_id = "trial_sign_in", path = "/trials/sign-in/{id}", params(("id" = String, Path)),
    responses((status = 200, body = TrialSignIn), (status = 404, body = Problem)))]
pub async fn read(State(app): State<App>, who: Engineer, Path(id): Path<String>) -> Result<Json<TrialSignIn>, ApiError> {
    // What came back is of a person who may be anybody's colleague.
    who.may(Role::Configure)?;
    let none = || {
        let words = "There is no such trial, or it was begun more than an hour ago.";
        problem(StatusCode::NOT_FOUND, "no-trial", "No such trial", words)
    };
    let (token, row) = trial::find(&app, &id).await?.ok_or_else(none)?;
    let site = trial::site_of(&app, &row).await?;
    let brought = match trial::open(&app, &row) {
        None => None,
        Some(b) => {
            let (of, provider, now, lang) = (site.clone(), row.provider.clone(), app.now(), who.lang);
            Some(off_the_data_path(&app, &who.name, move || brought(now, of.as_deref(), &provider, b, lang)).await?)
        }
    };
    Ok(Json(shown(&app, &token, row, site.as_deref(), brought)))
}

fn shown(app: &App, token: &Token, row: TrialRow, site: Option<&Site>, brought: Option<TrialBrought>) -> TrialSignIn {
    let path = format!("/.passeur/sign-in?trial={}", token.reveal());
    let live = app.live.get();
    let provider = site.and_then(|s| s.provider(&row.provider)).filter(|p| matches!(p.speaks, Speaks::Oidc(_)));
    let apart = provider.filter(|p| trial::differs_in(live.as_deref(), &p.issuer, &p.name));
    TrialSignIn {
        register: live.as_ref().zip(apart).map(|(e, p)| e.site.trial_redirect_uri(&p.name)),
        id: token.reveal().to_owned(),
        provider: row.provider,
        source: row.source,
        begun_by: row.begun_by,
        begun: row.begun,
        until: row.expires_at,
        address: app.live.get().map_or_else(|| path.clone(), |e| e.site.address.at(&path)),
        brought,
    }
}

fn brought(now: Moment, site: Option<&Site>, provider: &str, b: Brought, lang: Lang) -> TrialBrought {
    let decided = deciding(&b.steps);
    let gates = match (site, &b.evidence) {
        (Some(site), Some(evidence)) => gates(now, site, provider, evidence, lang),
        _ => vec![],
    };
    TrialBrought {
        at: b.at,
        outcome: b.outcome.into(),
        outcome_words: b.outcome.words(lang).to_owned(),
        crossing: b.crossing.to_string(),
        why: headline(&b.steps, lang),
        steps: b.steps.iter().enumerate().map(|(i, s)| show(i, s, decided == Some(i), lang)).collect(),
        raw: b.raw.into_iter().map(|(name, text)| TrialRaw { name, text }).collect(),
        subject: b.evidence.map(|e| e.subject),
        gates,
    }
}

/// How the person would fare at every gate, and at the console, if it were entered by the provider that is tried.
fn gates(now: Moment, site: &Site, provider: &str, evidence: &Evidence, lang: Lang) -> Vec<TrialGate> {
    let mut tried = site.clone();
    for gate in &mut tried.gates {
        gate.access = trial::as_if(&gate.access, provider);
    }
    tried.engineers = tried.engineers.as_ref().map(|a| trial::as_if(a, provider));
    let at = Circumstances::at(now);
    let one = |(place, access): (Place, &Access)| {
        let fare = fare(&tried, &place, evidence, &at, &try_at(&tried, &place, evidence, &at), lang);
        // A decision may end before it comes to attributes, which are looked at all the same.
        let mut story = Story::default();
        identify(&tried, &trial::as_if(access, provider), evidence, &mut story);
        let absent = story.steps.iter().filter(|s| s.code == StepCode::AttributeAbsent).map(|s| sentence(s, lang));
        let less = fare.steps.iter().filter(|s| LESS.iter().any(|l| l.spec().code == s.code)).map(|s| s.sentence.clone());
        TrialGate {
            gate: place.to_string(),
            uses: access.ways.iter().any(|w| w == provider),
            missing: absent.chain(less).collect(),
            verdict: fare.verdict,
            because: fare.because,
            headers: fare.headers,
            steps: fare.steps,
        }
    };
    site.places().map(one).collect()
}
