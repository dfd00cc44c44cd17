//! Secrets: set, and told about; never told.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{
    Certificate, CheckVerdict, DirectoryTrial, MadeKey, MakeKey, Problem, ProviderTrial, Secret, SecretValue, SecretVersion,
    UseSecret,
};
use passeur_core::likeness::Likeness;
use passeur_core::role::Role;
use passeur_core::seal::Purpose;
use passeur_core::x509;
use passeur_engine::editions::Load;
use passeur_engine::providers::own;
use passeur_engine::random::random;
use passeur_engine::secrets::secret_binding;
use passeur_store::{HowStored, SecretVersion as StoredVersion};

use super::auth::Engineer;
use super::errors::{ApiError, problem};
use super::extract::{Json, Path};
use crate::app::App;
use crate::computing::off_the_data_path;
use crate::trials::{self, Under};

/// The longest secret stored, in bytes.
const SECRET_MAX: usize = 64 * 1024;

async fn all(app: &App) -> Result<Vec<Secret>, ApiError> {
    let needed = app.live.get().map(|e| e.site.secrets()).unwrap_or_default();
    let by = |name: &str| needed.iter().filter(|(n, _)| n == name).map(|(_, by)| by.clone()).collect::<Vec<_>>();
    let stored = app.store.secret_list().await?;
    let mut out: Vec<Secret> = stored
        .into_iter()
        .map(|s| {
            let live = s.versions.iter().find(|v| v.version == s.version);
            let shown = |v: &StoredVersion| SecretVersion {
                version: v.version,
                changed_at: v.changed_at,
                changed_by: v.changed_by.clone(),
                waits: v.waits,
            };
            Secret {
                needed_by: by(&s.name),
                changed_at: live.map(|v| v.changed_at),
                changed_by: live.map(|v| v.changed_by.clone()),
                versions: s.versions.iter().map(shown).collect(),
                next: s.next,
                version: s.version,
                name: s.name,
            }
        })
        .collect();
    for (name, _) in &needed {
        if !out.iter().any(|s| s.name == *name) {
            out.push(Secret {
                needed_by: by(name),
                name: name.clone(),
                version: 0,
                changed_at: None,
                changed_by: None,
                next: None,
                versions: vec![],
            });
        }
    }
    Ok(out)
}

/// Secrets that are stored or needed. Reading this is itself recorded.
#[utoipa::path(get, operation_id = "secrets", path = "/secrets", responses((status = 200, body = Vec<Secret>)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Secret>>, ApiError> {
    who.may(Role::View)?;
    let all = all(&app).await?;
    let names: Vec<&str> = all.iter().map(|s| s.name.as_str()).collect();
    app.store.record_act(who.act(&app, "list secrets", serde_json::json!({"secrets": names}))).await?;
    Ok(Json(all))
}

/// Stores a secret under its next version: in use at once, or beside the one in use.
#[utoipa::path(put, operation_id = "set_secret", path = "/secrets/{name}", request_body = SecretValue, params(("name" = String, Path)),
    responses((status = 200, body = Secret), (status = 400, body = Problem)))]
pub async fn set(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Json(ask): Json<SecretValue>,
) -> Result<Json<Secret>, ApiError> {
    who.may(Role::Configure)?;
    check_name(&name)?;
    if ask.value.is_empty() || ask.value.len() > SECRET_MAX {
        return Err(problem(StatusCode::BAD_REQUEST, "secret", "Not stored", "A secret holds 1 to 65536 bytes."));
    }
    keep(&app, &who, &name, &ask.value, ask.stand_by).await.map(Json)
}

fn check_name(name: &str) -> Result<(), ApiError> {
    let plain = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    match !name.is_empty() && name.len() <= 60 && name.bytes().all(plain) {
        true => Ok(()),
        false => {
            let words = "A secret's name is a-z, 0-9 and hyphens, at most 60.";
            Err(problem(StatusCode::BAD_REQUEST, "secret", "Not stored", words))
        }
    }
}

/// Whether a secret is one that the roles of engineers stand on, where the site asks for two engineers there. The emergency account
/// needs nobody: see [`super::sites`].
async fn asks_for_second(app: &App, who: &Engineer, name: &str) -> Result<bool, ApiError> {
    if who.is_emergency() {
        return Ok(false);
    }
    let Some(live) = app.store.live_edition().await? else { return Ok(false) };
    let name = name.to_owned();
    off_the_data_path(app, &who.name, move || match passeur_core::document::compile(&live.document).0 {
        // An edition that this node cannot read may ask for it.
        None => true,
        Some(site) => site.second_engineer && site.roles_stand_on().secrets.contains(&name),
    })
    .await
}

/// Puts a version that waits into use only for somebody else than whoever stored it.
async fn ask_for_second(app: &App, who: &Engineer, name: &str, version: &StoredVersion) -> Result<(), ApiError> {
    if !version.waits || who.is_emergency() {
        return Ok(());
    }
    let no = |words: &str| Err(problem(StatusCode::CONFLICT, "second-engineer", "A second engineer must agree", words));
    if who.evidence.is_none() {
        return no(
            "The roles of engineers stand on this secret, and the site asks for a second engineer. Sign in to the console and put \
                   it into use there: a token shows nothing of who does it. Nothing was changed.",
        );
    }
    let theirs = Likeness::from_stored(&version.likeness);
    if theirs.is_empty() {
        let words = format!(
            "Version {} was stored with a token of nobody, so that whoever stored it may be anybody. Have an engineer who is signed in store \
             it again: passeur secret set {name}. Nothing was changed.",
            version.version
        );
        return no(&words);
    }
    let me = who.likeness(app).await?;
    let Some(shared) = me.shares(&theirs) else { return Ok(()) };
    let words = format!(
        "{} stored version {}, and may be you: both are known by \"{}\". Another engineer puts it into use. Nothing was changed.",
        passeur_core::text::visible(&version.changed_by),
        version.version,
        passeur_core::text::visible(shared)
    );
    no(&words)
}

async fn keep(app: &App, who: &Engineer, name: &str, value: &str, stand_by: bool) -> Result<Secret, ApiError> {
    let seal = |version| app.ring.seal(Purpose::Secret, &secret_binding(name, version), random(), value.as_bytes());
    let how =
        HowStored { stand_by, waits: asks_for_second(app, who, name).await?, likeness: who.likeness(app).await?.to_stored() };
    app.store.set_secret(name, how, seal, who.act(app, "set secret", serde_json::Value::Null)).await?;
    app.load_edition(Load::Anyway).await?;
    one(app, name).await.map(|Json(s)| s)
}

/// Makes a private key with a certificate and stores both under the secret's next version. The key never leaves the service.
#[utoipa::path(post, operation_id = "make_key", path = "/secrets/{name}/make-key", request_body = MakeKey, params(("name" = String, Path)),
    responses((status = 200, body = MadeKey), (status = 400, body = Problem)))]
pub async fn make_key(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Json(ask): Json<MakeKey>,
) -> Result<Json<MadeKey>, ApiError> {
    who.may(Role::Configure)?;
    check_name(&name)?;
    if !(1..=10).contains(&ask.years) {
        return Err(problem(StatusCode::BAD_REQUEST, "secret", "Not made", "A certificate is good for 1 to 10 years."));
    }
    let host = app.live.get().map_or_else(|| "passeur".to_owned(), |e| e.site.address.name().to_owned());
    let now = app.now();
    // Half a second of work for one core: not on a thread that others wait for.
    let (of, years) = (name.clone(), i64::from(ask.years));
    let made = tokio::task::spawn_blocking(move || match ask.authority {
        true => passeur_engine::profiles::make_authority(&of, now, years),
        false => own::make(&host, now, years),
    })
    .await;
    let failed = |how: String| problem(StatusCode::INTERNAL_SERVER_ERROR, "secret", "Not made", &how);
    let pem = made.map_err(|e| failed(e.to_string()))?.map_err(failed)?;
    let der = x509::certificate(&pem).ok_or_else(|| failed("the certificate that was made cannot be read".into()))?;
    let secret = keep(&app, &who, &name, &pem, ask.stand_by).await?;
    Ok(Json(MadeKey { secret, certificate: certificate(&der) }))
}

/// A certificate as it is told.
pub fn certificate(der: &[u8]) -> Certificate {
    let not_after = x509::read(der).map(|c| c.not_after);
    Certificate { fingerprint: x509::fingerprint(der), not_after, pem: x509::to_pem(der) }
}

async fn one(app: &App, name: &str) -> Result<Json<Secret>, ApiError> {
    let lost = || problem(StatusCode::NOT_FOUND, "no-secret", "No such secret", &format!("No secret \"{name}\" is stored."));
    Ok(Json(all(app).await?.into_iter().find(|s| s.name == name && !s.versions.is_empty()).ok_or_else(lost)?))
}

/// What a trial with a version finds wrong, in words, for everything of the live edition that needs the secret.
async fn untried(app: &App, name: &str, version: i32) -> Vec<String> {
    let Some(edition) = app.live.get() else { return vec![] };
    let site = &edition.site;
    let mut out = vec![];
    let wrong = |part: String, checks: Vec<passeur_api::TrialCheck>| {
        // Only what the secret has a part in; an address that does not answer says nothing of it.
        let about =
            checks.into_iter().filter(|c| c.verdict == CheckVerdict::Wrong && matches!(c.value.as_str(), "client" | "account"));
        about.map(|c| format!("{part}: {}", c.words)).collect::<Vec<_>>()
    };
    for p in site.providers.iter().filter(|p| p.secret() == Some(name)) {
        let ask = ProviderTrial::stored(&p.name, version);
        if let Ok(found) = trials::provider(app, Under::live(site), &ask).await {
            out.extend(wrong(format!("provider {}", p.name), found.checks));
        }
    }
    for d in site.directories.iter().filter(|d| d.secret.as_deref() == Some(name)) {
        let ask = DirectoryTrial::stored(&d.name, version);
        if let Ok(found) = trials::directory(app, Under::live(site), &ask).await {
            out.extend(wrong(format!("directory {}", d.name), found.checks));
        }
    }
    out
}

/// Puts a kept version into use, after a trial with it.
#[utoipa::path(post, operation_id = "use_secret", path = "/secrets/{name}/use", request_body = UseSecret, params(("name" = String, Path)),
    responses((status = 200, body = Secret), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn use_version(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Json(ask): Json<UseSecret>,
) -> Result<Json<Secret>, ApiError> {
    who.may(Role::Configure)?;
    let kept = app.store.secret_list().await?.into_iter().find(|s| s.name == name);
    let known = kept.and_then(|s| s.versions.into_iter().find(|v| v.version == ask.version));
    let none =
        || problem(StatusCode::NOT_FOUND, "no-secret", "No such version", "That version is not kept; see passeur secret list.");
    let version = known.ok_or_else(none)?;
    ask_for_second(&app, &who, &name, &version).await?;
    if !ask.anyway.iter().any(|w| w == "untried") {
        let wrong = untried(&app, &name, ask.version).await;
        if !wrong.is_empty() {
            let detail = format!("A trial with version {} failed: {}. Nothing was changed.", ask.version, wrong.join("; "));
            return Err(problem(StatusCode::CONFLICT, "untried", "It does not work yet", &detail).with_anyway("untried"));
        }
    }
    let act = who.act(&app, "use secret", serde_json::json!({"secret": name, "version": ask.version, "anyway": ask.anyway}));
    if !app.store.use_secret(&name, ask.version, act).await? {
        return Err(none());
    }
    app.load_edition(Load::Anyway).await?;
    one(&app, &name).await
}

/// Removes a secret that nothing names: neither the live edition nor the draft.
#[utoipa::path(delete, operation_id = "remove_secret", path = "/secrets/{name}", params(("name" = String, Path)),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove(State(app): State<App>, who: Engineer, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    who.may(Role::Configure)?;
    let live = app.store.live_edition().await?.map(|e| ("the live edition".to_owned(), e.document));
    let draft = app.store.draft().await?.map(|d| ("the draft".to_owned(), d.document));
    let documents: Vec<(String, String)> = live.into_iter().chain(draft).collect();
    let wanted = name.clone();
    let by = off_the_data_path(&app, &who.name, move || {
        let naming = documents.into_iter().filter_map(|(what, text)| match passeur_core::document::compile(&text).0 {
            Some(site) => site.secrets().into_iter().find(|(n, _)| *n == wanted).map(|(_, by)| format!("{what} ({by})")),
            // What cannot be read may name it.
            None => text.contains(&wanted).then(|| format!("{what}, which has mistakes")),
        });
        naming.collect::<Vec<_>>()
    })
    .await?;
    if !by.is_empty() {
        let words = format!("It is named by {}. Take it out of there first. Nothing was changed.", by.join(" and "));
        return Err(problem(StatusCode::CONFLICT, "secret-named", "The secret is needed", &words));
    }
    if !app.store.remove_secret(&name, who.act(&app, "remove secret", serde_json::json!({"secret": name}))).await? {
        let words = format!("No secret \"{}\" is stored.", passeur_core::text::visible(&name));
        return Err(problem(StatusCode::NOT_FOUND, "no-secret", "No such secret", &words));
    }
    app.load_edition(Load::Anyway).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets a version that is not in use.
#[utoipa::path(delete, operation_id = "forget_secret", path = "/secrets/{name}/versions/{version}", params(("name" = String, Path), ("version" = i32, Path)),
    responses((status = 200, body = Secret), (status = 409, body = Problem)))]
pub async fn forget(
    State(app): State<App>,
    who: Engineer,
    Path((name, version)): Path<(String, i32)>,
) -> Result<Json<Secret>, ApiError> {
    who.may(Role::Configure)?;
    let act = who.act(&app, "forget secret", serde_json::json!({"secret": name, "version": version}));
    if !app.store.forget_secret(&name, version, act).await? {
        let words = "That version is in use, or is not kept; see passeur secret list. passeur secret remove takes away a secret that \
                     nothing names, with all its versions.";
        return Err(problem(StatusCode::CONFLICT, "secret", "Not forgotten", words));
    }
    app.load_edition(Load::Anyway).await?;
    one(&app, &name).await
}
