//! Asking for exactly what is missing: of the provider, or of a factor of our own. Each thing is asked for once in a crossing;
//! what does not come back then is a refusal like any other.

use passeur_core::condition::Need;
use passeur_core::site::Site;
use passeur_core::step;
use passeur_core::step::Param;

use super::{Asked, Destination, Done, Journey, Known, Manner, Why};
use crate::factors::prove;

/// What is asked for next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// An authentication context, of the provider.
    Context(Vec<String>),
    /// A new sign-in.
    Fresh,
    /// A factor of our own that proves one of these methods.
    Factor(Vec<String>),
}

impl Missing {
    /// A word by which it is known that it was asked for.
    fn code(&self) -> &'static str {
        match self {
            Missing::Context(_) => "context",
            Missing::Fresh => "fresh",
            Missing::Factor(_) => "factor",
        }
    }
}

/// What of a need can be asked for. A new sign-in comes before a factor, which is proven in the session that it begins.
pub fn next(site: &Site, way: &str, need: &Need, asked: &[String]) -> Option<Missing> {
    let of_provider = site.provider(way).is_some();
    let context = (of_provider && !need.contexts.is_empty()).then(|| Missing::Context(need.contexts.clone()));
    let fresh = need.fresh.map(|_| Missing::Fresh);
    let own = site.factors.as_ref().is_some_and(|own| own.prove(&need.factors));
    let factor = own.then(|| Missing::Factor(need.factors.clone()));
    let first = context.or(fresh).or(factor)?;
    (!asked.iter().any(|a| a == first.code())).then_some(first)
}

impl<'a> Journey<'a, Known> {
    /// Asks for what a gate's rules miss.
    pub(super) async fn step_up(mut self, need: &Need) -> Done<'a> {
        let way = self.state.0.evidence.way().to_owned();
        let Destination::Gate(ask) = &self.to else { return Err(self.stop(Why::NotSetUp)) };
        let Some(next) = next(self.site(), &way, need, &ask.asked) else { return Err(self.stop(Why::NotSetUp)) };
        self.step(|| step!(StepUpAsked { what: Param::reason(next.code()) }));
        if let Err(e) = self.note_before_asking(next.code()).await {
            return Err(self.stop(e));
        }
        let manner = match next {
            Missing::Factor(wanted) => return prove::ask(self, wanted).await,
            Missing::Context(contexts) => Manner { contexts, ..Manner::default() },
            // Whatever it did before: a proof of before the asking counts for nothing.
            Missing::Fresh => Manner::anew(),
        };
        self.with(Asked).by_way(&way, manner).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_missing_is_asked_for_once_and_in_order() {
        let (site, findings) = passeur_core::document::compile(include_str!("../../../../demo/site.toml"));
        let site = site.unwrap_or_else(|| panic!("{findings:#?}"));
        let fresh = Some(chrono::Duration::minutes(5));
        let need = Need { contexts: vec!["2".into()], fresh, factors: vec!["otp".into()], device: false };
        let asked = |a: &[&str]| next(&site, "pilotage", &need, &a.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>());
        assert_eq!(asked(&[]), Some(Missing::Context(vec!["2".into()])));
        assert_eq!(asked(&["context"]), None, "it did not come back");
        assert_eq!(next(&site, "harbour-password", &need, &[]), Some(Missing::Fresh), "no provider knows contexts there");
        let factor = Need { factors: vec!["otp".into()], ..Need::default() };
        assert_eq!(next(&site, "pilotage", &factor, &["fresh".into()]), Some(Missing::Factor(vec!["otp".into()])));
        let unknown = Need { factors: vec!["face".into()], ..Need::default() };
        assert_eq!(next(&site, "pilotage", &unknown, &[]), None, "nothing of ours proves it");
        assert_eq!(next(&site, "pilotage", &Need::default(), &[]), None);
        assert_eq!(next(&site, "pilotage", &Need { device: true, ..Need::default() }, &[]), None, "it was looked at just now");
    }
}
