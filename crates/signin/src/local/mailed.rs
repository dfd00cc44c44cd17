//! A code by mail. Whoever asks sees the same, whether or not a code was sent: nobody learns which addresses come in.

use axum::response::{IntoResponse, Response};
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::id::{hex, same_secret, sha256};
use passeur_core::seal::Purpose;
use passeur_core::site::{MailedCodeWay, TRIES_MINUTES, plain_mail};
use passeur_core::step::{Lang, Param, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_engine::random::random;
use passeur_engine::tries::slow;
use passeur_store::{MailedCode, StoreError};
use serde_json::Map;

use super::{Asked, Entered, Proven, enter, limits};
use crate::pages::{self, Said};
use passeur_engine::Engine;

/// How many codes an address gets within the window from one place, and how often one code may be tried.
const SENT_MAX: i32 = 4;
const TRIES: i16 = 5;

pub(super) async fn tried(asked: &Asked<'_>, way: &MailedCodeWay, attempt: Attempt, entered: &Entered) -> Response {
    let done = match &entered.code {
        Some(code) => checked(asked, way, attempt, code).await,
        None => sent(asked, way, attempt, &entered.mail).await,
    };
    done.unwrap_or_else(|e| pages::store_failed(asked.site(), asked.visit.facts.lang, &e).into_response())
}

/// Six digits, each as likely as any other.
fn new_code() -> String {
    loop {
        let n = u32::from_be_bytes(random::<4>());
        // The greatest multiple of a million: what lies above would favour some codes.
        if n < u32::MAX - u32::MAX % 1_000_000 {
            return format!("{:06}", n % 1_000_000);
        }
    }
}

/// Letters that make no words and are not mistaken for one another.
const LETTERS: &[u8; 20] = b"BCDFGHJKLMNPQRSTVWXZ";

/// Ten letters, for an address whose codes somebody guesses: 43 bits in the place of 20.
fn long_code() -> String {
    let mut out = String::new();
    while out.len() < 10 {
        out.extend(random::<16>().iter().filter(|b| **b < 240).map(|b| char::from(LETTERS[usize::from(b % 20)])));
    }
    out.truncate(10);
    out
}

/// What a code is compared as, in whatever spelling it was typed.
fn plain(typed: &str) -> String {
    typed.chars().filter(char::is_ascii_alphanumeric).take(12).collect::<String>().to_ascii_uppercase()
}

/// The account under which wrong codes are counted over weeks.
fn guessed(way: &str, mail: &str) -> String {
    format!("{way}\0{mail}")
}

fn mac(engine: &Engine, flow: &[u8; 32], code: &str) -> [u8; 32] {
    engine.ring.mac("mailed code", &[flow.as_slice(), code.as_bytes()].concat())
}

async fn sent(asked: &Asked<'_>, way: &MailedCodeWay, mut attempt: Attempt, typed: &str) -> Result<Response, StoreError> {
    let engine = asked.engine;
    let Some(mail) = plain_mail(typed) else {
        return Ok(asked.form(Said::Wrong { id: attempt.id }, |f| f.mail(typed)).into_response());
    };
    if limits::count(asked, &mut attempt, &mail, SENT_MAX).await?.is_none() {
        return too_many(asked, &mut attempt, &mail).await;
    }
    let flow = asked.flow.id();
    let long = slow::is_guessed(engine, "mailed code", &guessed(&asked.way.name, &mail)).await?;
    let code = way.sends_to(&mail).then(if long { long_code } else { new_code });
    let row = MailedCode {
        flow: flow.to_vec(),
        code: code.as_ref().map(|c| mac(engine, &flow, c).to_vec()),
        mail: engine.ring.seal(Purpose::MailedCode, &flow, random(), mail.as_bytes()),
        tries_left: TRIES,
        expires_at: engine.now() + way.lives,
        network: neighbourhood(asked.visit.facts.address).to_string(),
    };
    if !engine.store.put_mailed_code(row, engine.now()).await? {
        return too_many(asked, &mut attempt, &mail).await;
    }
    match code {
        Some(code) => {
            attempt.step(|| mailed_to(&mail, way));
            attempt.record_waiting();
            let (engine, to, id) = (engine.clone(), mail.clone(), attempt.id);
            let (subject, text) = words(&asked.site().name, &code, way.lives.num_minutes(), asked.visit.facts.lang);
            // Not waited for: how long the server takes would tell that there was something to send.
            tokio::spawn(async move {
                let done = match engine.mailer() {
                    Some(mailer) => mailer.send(&to, &subject, text).await.map_err(|e| e.to_string()),
                    None => Err("the live edition names no mail server".to_owned()),
                };
                if let Err(how) = done {
                    tracing::error!(how, "a code was not mailed");
                    let why = Param::Reason { code: "mail-not-taken".into(), detail: how };
                    let step = Step::new(StepCode::CodeNotMailed).with("why", why);
                    // The attempt may still wait to be written, and what is not there takes no further step.
                    engine.recorder.settle().await;
                    if let Err(e) = engine.store.extend(id, serde_json::json!([step]), engine.now()).await {
                        tracing::warn!(error = %e, crossing = %id, "that it was not mailed could not be written");
                    }
                }
            });
        }
        None => {
            attempt.step(|| Step::new(StepCode::CodeNotMailed).with("why", Param::reason("mail-not-admitted")));
            attempt.record_waiting();
        }
    }
    Ok(asked.form(Said::Sent { mail: &mail }, |f| f.code(long)).into_response())
}

/// No more codes for now, which is recorded.
async fn too_many(asked: &Asked<'_>, attempt: &mut Attempt, mail: &str) -> Result<Response, StoreError> {
    if let Err(response) = asked.note(attempt, Outcome::CheckFailed).await {
        return Ok(*response);
    }
    let page = asked.form(Said::Wait { minutes: TRIES_MINUTES }, |f| f.mail(mail));
    Ok(limits::wait(page.into_response()))
}

fn words(site: &str, code: &str, minutes: i64, lang: Lang) -> (String, String) {
    let (front, back) = code.split_at(code.len() / 2);
    let shown = format!("{front} {back}");
    match lang {
        Lang::En => (
            format!("{shown} is your code for {site}"),
            format!(
                "Your code for {site}:\n\n    {shown}\n\nIt is good once, for {minutes} minutes, in the browser that asked for it.\n\
                 Nobody will ever ask you for it. If you did not ask for it, do nothing.\n"
            ),
        ),
        Lang::Fr => (
            format!("{shown} est votre code pour {site}"),
            format!(
                "Votre code pour {site} :\n\n    {shown}\n\nIl vaut une fois, pendant {minutes} minutes, dans le navigateur qui l'a demandé.\n\
                 Personne ne vous le demandera jamais. Si vous ne l'avez pas demandé, ne faites rien.\n"
            ),
        ),
    }
}

fn mailed_to(mail: &str, way: &MailedCodeWay) -> Step {
    Step::new(StepCode::CodeMailed).with("mail", mail).with("minutes", way.lives.num_minutes())
}

async fn checked(asked: &Asked<'_>, way: &MailedCodeWay, mut attempt: Attempt, typed: &str) -> Result<Response, StoreError> {
    let engine = asked.engine;
    let flow = asked.flow.id();
    let row = engine.store.try_mailed_code(&flow, engine.now()).await?;
    let right = row.as_ref().is_some_and(|r| r.code.as_ref().is_some_and(|c| same_secret(c, &mac(engine, &flow, &plain(typed)))));
    let mail = row.as_ref().and_then(|r| engine.ring.open(Purpose::MailedCode, &flow, &r.mail).ok());
    let mail = mail.and_then(|b| String::from_utf8(b).ok());
    // Used up before anybody is let in: of two at once one is too late.
    let taken = right && engine.store.take_mailed_code(&flow).await?;
    let Some(mail) = mail.clone().filter(|_| taken) else {
        let mut long = false;
        if let Some(mail) = &mail {
            let account = guessed(&asked.way.name, mail);
            slow::count(engine, "mailed code", &account).await?;
            long = slow::is_guessed(engine, "mailed code", &account).await?;
        }
        let why = if row.is_some() { "code-wrong" } else { "code-none" };
        attempt.step(|| Step::new(StepCode::MailedCodeWrong).with("why", Param::reason(why)));
        let id = match asked.note(&mut attempt, Outcome::CheckFailed).await {
            Ok(id) => id,
            Err(response) => return Ok(*response),
        };
        return Ok(asked.form(Said::Wrong { id }, |f| f.code(long)).into_response());
    };
    slow::forget(engine, "mailed code", &guessed(&asked.way.name, &mail)).await?;
    attempt.step(|| mailed_to(&mail, way));
    attempt.step(|| Step::new(StepCode::MailedCodeRight).with("mail", mail.as_str()));
    let mut claims = Map::new();
    claims.insert("mail".into(), mail.clone().into());
    // The person's key is no mail address, and another address is another person.
    let subject = hex(&sha256(format!("{}\0{mail}", asked.way.name).as_bytes())[..16]);
    let proven = Proven {
        way_in: WayIn::MailedCode,
        subject,
        name: mail.clone(),
        claims,
        account: mail,
        kept: None,
        method: None,
        at: None,
        sent: None,
    };
    Ok(enter(asked, attempt, proven).await)
}
