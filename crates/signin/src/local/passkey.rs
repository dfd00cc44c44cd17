//! A passkey as a way in of its own. It stands for the person who enrolled it, as their provider named them last: what the
//! provider said then counts for as long as the site says, and the directory is asked anew as always.

use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::identity::display_name;
use passeur_core::site::{PASSKEY_PROVES, PasskeyWay};
use passeur_core::step;
use passeur_core::step::Param;
use passeur_engine::attempt::Who;
use passeur_engine::look_up;
use passeur_store::{FactorRow, StoreError};

use super::{Came, Entered, Try};
use crate::factors::ceremony;
use crate::journey::{Proven, ProviderSession, Why};
use crate::pages::Said;

pub(super) async fn tried(tried: &mut Try<'_>, way: &PasskeyWay, entered: &Entered) -> Result<Came, Why> {
    let came = match ceremony::came(tried.journey.desk, &entered.ceremony, &entered.credential).await? {
        Ok(row) => known(tried, way, row).await?,
        Err(why) => Err(why),
    };
    let (row, evidence, claimed) = match came {
        Ok(found) => found,
        Err(why) => {
            tried.step(|| step!(PasskeyRefused { why: Param::reason(why) }));
            let id = tried.note(Outcome::CheckFailed).await?;
            return Ok(tried.form(Said::Wrong { id }, |f| f.passkey()).into());
        }
    };
    tried.journey.use_up(tried.way.answer_within).await?;
    tried.step(|| {
        step!(PasskeyRight {
            name: row.name,
            provider: evidence.provider.as_str(),
            at: claimed.format("%Y-%m-%d %H:%M UTC").to_string()
        })
    });
    let name = display_name(&evidence);
    tried.journey.attempt.who = Some(Who { provider: evidence.provider.clone(), subject: evidence.subject.clone(), name });
    Ok(Came::In { proven: Box::new(Proven { evidence, provider: ProviderSession::default() }), known: None })
}

/// Who holds a passkey, as their provider named them last, and when that was.
async fn known(
    tried: &Try<'_>,
    way: &PasskeyWay,
    row: FactorRow,
) -> Result<Result<(FactorRow, Evidence, Moment), &'static str>, StoreError> {
    if !way.of.contains(&row.provider) || !tried.site().knows(&row.provider, &row.person()) {
        return Ok(Err("passkey-not-taken"));
    }
    let now = tried.engine().now();
    let found = look_up::last_of_provider(tried.engine(), &row.person()).await?;
    let Some((known, claimed)) = found.filter(|(_, claimed)| now < *claimed + way.renew) else {
        return Ok(Err("passkey-claims-old"));
    };
    let amr = PASSKEY_PROVES.iter().map(|m| (*m).to_owned()).collect();
    let unasked = row.unasked;
    let factors = Factors { acr: None, amr, auth_time: Some(now), own: vec![] };
    Ok(Ok((row, known.standing(WayIn::Passkey, &tried.way.name, claimed, factors, unasked), claimed)))
}
