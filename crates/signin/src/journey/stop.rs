//! How a sign-in ends that leads nowhere: one type for what went wrong, and one function that makes an answer of it.

use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_engine::attempt::Attempt;
use passeur_store::StoreError;

use super::{Desk, Destination};
use crate::{pages, trial};

/// Why a sign-in leads nowhere.
pub enum Why {
    /// The last step says why.
    Ended { outcome: Outcome, status: StatusCode },
    /// The last step says why, and nothing is known of who came: it is recorded with what is alike.
    Nobody { outcome: Outcome, status: StatusCode },
    /// It was recorded already, and this page tells of it.
    Told(Box<Response>),
    /// The edition has nothing that this could lead to.
    NotSetUp,
    /// The trial is over, or was never begun.
    TrialOver,
    /// The store does not answer: nobody is let in, and nothing is shown that was not recorded.
    Store(StoreError),
}

impl Why {
    /// A check of ours failed.
    pub const FAILED_CHECK: Why = Why::Ended { outcome: Outcome::CheckFailed, status: StatusCode::FORBIDDEN };
    /// A part of this node did not answer.
    pub const UNAVAILABLE: Why = Why::Ended { outcome: Outcome::Failed, status: StatusCode::SERVICE_UNAVAILABLE };
    /// A provider, or another part elsewhere, did not answer.
    pub const SILENT: Why = Why::Ended { outcome: Outcome::Failed, status: StatusCode::BAD_GATEWAY };
    /// Nobody could be sent to the provider.
    pub const NOT_SENT: Why = Why::Nobody { outcome: Outcome::Failed, status: StatusCode::BAD_GATEWAY };
    /// What the address says is no request of a gate of ours, or is too old.
    pub const ASK_UNREADABLE: Why = Why::Nobody { outcome: Outcome::CheckFailed, status: StatusCode::BAD_REQUEST };
}

impl From<StoreError> for Why {
    fn from(e: StoreError) -> Why {
        Why::Store(e)
    }
}

impl From<Response> for Why {
    fn from(page: Response) -> Why {
        Why::Told(Box::new(page))
    }
}

/// A sign-in that leads nowhere, with all that answering takes.
pub struct Stop<'a> {
    pub desk: Desk<'a>,
    pub attempt: Attempt,
    /// Where it led, where that was known.
    pub to: Option<Destination>,
    pub why: Why,
}

impl Stop<'_> {
    /// Records what is to be recorded, and says so to whoever came: an engineer who tries a provider sees all of it.
    pub async fn answer(self) -> Response {
        let Stop { desk, mut attempt, to, why } = self;
        let (site, lang) = (desk.site(), desk.lang());
        let (recorded, status) = match why {
            Why::Told(page) => return *page,
            Why::NotSetUp => return pages::not_set_up(lang).into_response(),
            Why::TrialOver => return pages::trial_over(site, lang, StatusCode::GONE).into_response(),
            Why::Store(e) => return pages::store_failed(site, lang, &e).into_response(),
            Why::Ended { outcome, status } => match &to {
                Some(Destination::Trial { token, .. }) => return trial::finish(desk, attempt, token, Err(outcome)).await,
                _ => (attempt.record_ended(outcome).await, status),
            },
            Why::Nobody { outcome, status } => match &to {
                Some(Destination::Trial { token, .. }) => return trial::finish(desk, attempt, token, Err(outcome)).await,
                _ => (Ok(attempt.record_anonymous(outcome)), status),
            },
        };
        match recorded {
            Ok(id) => pages::refused(site, lang, status, &pages::Refused::of_step(&attempt, id, None)).into_response(),
            Err(e) => pages::store_failed(site, lang, &e).into_response(),
        }
    }
}

/// What a sign-in answers, however it ended.
pub async fn answer(done: super::Done<'_>) -> Response {
    match done {
        Ok(response) => response,
        Err(stop) => stop.answer().await,
    }
}
