//! A code by mail. Whoever asks sees the same, whether or not a code was sent: nobody learns which addresses come in.

use axum::response::IntoResponse;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::id::{hex, same_secret, sha256};
use passeur_core::seal::Purpose;
use passeur_core::site::{MailedCodeWay, TRIES_MINUTES, plain_mail};
use passeur_core::step;
use passeur_core::step::{Lang, Param, Step};
use passeur_engine::random::random;
use passeur_engine::tries::slow;
use passeur_store::MailedCode;
use serde_json::Map;

use passeur_engine::Engine;

use super::{Came, Entered, Person, Try, limits};
use crate::journey::Why;
use crate::pages::Said;
use passeur_engine::short_code;

/// How many codes an address gets within the window from one place, and how often one code may be tried.
const SENT_MAX: i32 = 4;
const TRIES: i16 = 5;

pub(super) async fn tried(tried: &mut Try<'_>, way: &MailedCodeWay, entered: &Entered) -> Result<Came, Why> {
    match &entered.code {
        Some(code) => checked(tried, way, code).await,
        None => sent(tried, way, &entered.mail).await,
    }
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

/// Ten letters, for an address whose codes somebody guesses: 43 bits in the place of 20.
fn long_code() -> String {
    short_code::new(10)
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

async fn sent(tried: &mut Try<'_>, way: &MailedCodeWay, typed: &str) -> Result<Came, Why> {
    let (engine, desk) = (tried.engine(), tried.journey.desk);
    let Some(mail) = plain_mail(typed) else {
        let id = tried.journey.attempt.id;
        return Ok(tried.form(Said::Wrong { id }, |f| f.mail(typed)).into_response().into());
    };
    if limits::count(tried, &mail, SENT_MAX).await?.is_none() {
        return too_many(tried, &mail).await;
    }
    let flow = tried.journey.leg().id();
    let long = slow::is_guessed(engine, "mailed code", &guessed(&tried.way.name, &mail)).await?;
    let code = way.sends_to(&mail).then(if long { long_code } else { new_code });
    let row = MailedCode {
        flow: flow.to_vec(),
        code: code.as_ref().map(|c| mac(engine, &flow, c).to_vec()),
        mail: engine.ring.seal(Purpose::MailedCode, &flow, random(), mail.as_bytes()),
        tries_left: TRIES,
        expires_at: engine.now() + way.lives,
        network: neighbourhood(desk.visit.facts.address).to_string(),
    };
    if !engine.store.put_mailed_code(row, engine.now()).await? {
        return too_many(tried, &mail).await;
    }
    match code {
        Some(code) => {
            tried.step(|| mailed_to(&mail, way));
            tried.journey.attempt.record_waiting();
            let (engine, to, id) = (engine.clone(), mail.clone(), tried.journey.attempt.id);
            let (subject, text) = words(&desk.site().name, &code, way.lives.num_minutes(), desk.lang());
            // Not waited for: how long the server takes would tell that there was something to send.
            tokio::spawn(async move {
                let done = match engine.mailer() {
                    Some(mailer) => mailer.send(&to, &subject, text).await.map_err(|e| e.to_string()),
                    None => Err("the live edition names no mail server".to_owned()),
                };
                if let Err(how) = done {
                    tracing::error!(how, "a code was not mailed");
                    let why = Param::Reason { code: "mail-not-taken".into(), detail: how };
                    let step = step!(CodeNotMailed { why });
                    // The attempt may still wait to be written, and what is not there takes no further step.
                    engine.recorder.settle().await;
                    if let Err(e) = engine.store.extend(id, serde_json::json!([step]), engine.now()).await {
                        tracing::warn!(error = %e, crossing = %id, "that it was not mailed could not be written");
                    }
                }
            });
        }
        None => {
            tried.step(|| step!(CodeNotMailed { why: Param::reason("mail-not-admitted") }));
            tried.journey.attempt.record_waiting();
        }
    }
    Ok(tried.form(Said::Sent { mail: &mail }, |f| f.code(long)).into_response().into())
}

/// No more codes for now, which is recorded.
async fn too_many(tried: &mut Try<'_>, mail: &str) -> Result<Came, Why> {
    tried.note(Outcome::CheckFailed).await?;
    let page = tried.form(Said::Wait { minutes: TRIES_MINUTES }, |f| f.mail(mail));
    Ok(limits::wait(page.into_response()).into())
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
    step!(CodeMailed { mail, minutes: way.lives.num_minutes() })
}

async fn checked(tried: &mut Try<'_>, way: &MailedCodeWay, typed: &str) -> Result<Came, Why> {
    let engine = tried.engine();
    let flow = tried.journey.leg().id();
    let row = engine.store.try_mailed_code(&flow, engine.now()).await?;
    let right = row.as_ref().is_some_and(|r| r.code.as_ref().is_some_and(|c| same_secret(c, &mac(engine, &flow, &plain(typed)))));
    let mail = row.as_ref().and_then(|r| engine.ring.open(Purpose::MailedCode, &flow, &r.mail).ok());
    let mail = mail.and_then(|b| String::from_utf8(b).ok());
    // Used up before anybody is let in: of two at once one is too late.
    let taken = right && engine.store.take_mailed_code(&flow).await?;
    let Some(mail) = mail.clone().filter(|_| taken) else {
        let mut long = false;
        if let Some(mail) = &mail {
            let account = guessed(&tried.way.name, mail);
            slow::count(engine, "mailed code", &account).await?;
            long = slow::is_guessed(engine, "mailed code", &account).await?;
        }
        let why = if row.is_some() { "code-wrong" } else { "code-none" };
        tried.step(|| step!(MailedCodeWrong { why: Param::reason(why) }));
        let id = tried.note(Outcome::CheckFailed).await?;
        return Ok(tried.form(Said::Wrong { id }, |f| f.code(long)).into_response().into());
    };
    slow::forget(engine, "mailed code", &guessed(&tried.way.name, &mail)).await?;
    tried.step(|| mailed_to(&mail, way));
    tried.step(|| step!(MailedCodeRight { mail: mail.as_str() }));
    let mut claims = Map::new();
    claims.insert("mail".into(), mail.clone().into());
    // The person's key is no mail address, and another address is another person.
    let subject = hex(&sha256(format!("{}\0{mail}", tried.way.name).as_bytes())[..16]);
    let person = Person {
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
    tried.prove(person).await
}
