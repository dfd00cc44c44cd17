//! Sign-in by OpenID Connect providers: [`ask`] sends people there, [`answer`] takes what comes back.

pub mod answer;
pub mod ask;
mod referred;
