//! The one function that makes an answer of how a sign-in ended.

use axum::response::{IntoResponse, Response};
use http::StatusCode;

use crate::journey::{Destination, Done, Stop, Why};
use crate::{pages, trial};

/// What a sign-in answers, however it ended.
pub async fn answer(done: Done<'_>) -> Response {
    match done {
        Ok(response) => response,
        Err(mut stop) => {
            let cookies = std::mem::take(&mut stop.cookies);
            let mut response = stopped(*stop).await;
            cookies.iter().for_each(|c| pages::set_cookie(&mut response, c));
            response
        }
    }
}

/// Records what is to be recorded, and says so to whoever came: an engineer who tries a provider sees all of it.
async fn stopped(stop: Stop<'_>) -> Response {
    let Stop { desk, mut attempt, to, why, cookies: _ } = stop;
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
