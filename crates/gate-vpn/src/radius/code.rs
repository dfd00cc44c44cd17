//! A code of the person's own factor, asked for where the rules want one (Access-Challenge, RFC 2865 section 4.4), and handed on by the client.

use std::time::Instant;

use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::factors::{self, Holds, Kind as Factor, TRIES};
use passeur_engine::programs::More;
use passeur_engine::tries::{self, slow};
use passeur_protocols::radius::{Attribute, Code, Kind};
use passeur_store::StoreError;

use super::answer::words_for;
use super::asking::{Answer, Asking, Manner, rejected};
use super::challenges::{WITHIN, Waiting};

impl Asking<'_> {
    /// The rules want a factor: the client is told to ask for it, where the person has one that can be typed.
    pub(super) async fn challenge(&self, more: More, (evidence, name): (Evidence, String)) -> Result<Answer, StoreError> {
        let (own, client) = (&self.request.own, self.client.name.as_str());
        let More { wanted, mut attempt } = more;
        let holds = Holds::of(self.engine(), &evidence.person()).await?;
        if !holds.kinds(&wanted).iter().any(|k| matches!(k, Factor::Totp | Factor::Recovery)) {
            attempt.step(|| step!(FactorNone { wanted }));
            attempt.record(Outcome::Refused).await?;
            return Ok(rejected("This wants a second factor, and you have none that can be typed.", attempt.id));
        }
        let user = self.request.packet.text(Kind::UserName).unwrap_or_default().trim().to_owned();
        let state = self.engine().new_token();
        let waiting = Waiting { client: client.to_owned(), user, evidence, name, wanted, crossing: attempt.id };
        let seconds = u32::try_from(WITHIN.as_secs()).unwrap_or(u32::MAX);
        if !own.challenges.ask(&state, waiting, Instant::now()) {
            attempt.step(|| step!(RadiusTooMany { client }));
            attempt.record(Outcome::Failed).await?;
            return Ok(rejected("You cannot come in just now.", attempt.id));
        }
        attempt.step(|| step!(RadiusChallenged { client, seconds: i64::from(seconds) }));
        attempt.record(Outcome::Waiting).await?;
        let words = match holds.guessed {
            true => "Enter two codes of your authenticator, one after the other.",
            false => "Enter the code of your authenticator, or a recovery code.",
        };
        let said = vec![
            words_for(words),
            Attribute::octets(Kind::State, state.reveal().as_bytes()),
            Attribute::number(Kind::SessionTimeout, seconds),
        ];
        Ok((Code::AccessChallenge, said))
    }

    /// The client hands on what was typed.
    pub(super) async fn by_code(
        &self,
        mut attempt: Attempt,
        facts: &RequestFacts,
        (state, user): (&[u8], &str),
        typed: &[u8],
    ) -> Result<Answer, StoreError> {
        let (engine, client) = (self.engine(), self.client.name.as_str());
        let Some(waiting) = self.request.own.challenges.take(state, client, user, Instant::now()) else {
            return Ok(self.refuse(attempt, step!(RadiusNoChallenge { client }), "Begin again with your password.", None));
        };
        let Waiting { mut evidence, name, wanted, crossing, .. } = waiting;
        attempt.provider = Some(evidence.provider.clone());
        attempt.who = Some(Who { provider: evidence.provider.clone(), subject: evidence.subject.clone(), name: name.clone() });
        attempt.step(|| step!(RadiusCode { client, crossing: crossing.to_string() }));
        let person = evidence.person();
        let account = factors::account(&person);
        if !tries::count_plain(engine, &mut attempt, "factor", &account, TRIES).await? {
            attempt.record(Outcome::CheckFailed).await?;
            return Ok(rejected("Too many tries. Wait a quarter of an hour.", attempt.id));
        }
        let holds = Holds::of(engine, &person).await?;
        // What is no text is nobody's code.
        let typed = std::str::from_utf8(typed).unwrap_or_default();
        let site = &self.request.edition.site;
        let (kind, found) = holds.typed(engine, site, (&evidence.provider, &person), typed).await?;
        let found = found.and_then(|name| if holds.kinds(&wanted).contains(&kind) { Ok(name) } else { Err("code-wrong") });
        match found {
            Ok(factor) => {
                factors::forgive(engine, &account).await?;
                attempt.step(|| step!(FactorRight { kind: Param::reason(kind.code()), name: factor }));
                factors::note(&mut evidence.factors, kind, engine.now());
                self.enter(attempt, facts, (evidence, name), Manner::default()).await
            }
            Err(why) => {
                attempt.step(|| step!(FactorWrong { kind: Param::reason(kind.code()), why: Param::reason(why) }));
                attempt.record(Outcome::CheckFailed).await?;
                slow::count(engine, "factor", &account).await?;
                Ok(rejected("This code does not let you in.", attempt.id))
            }
        }
    }
}
