//! The addresses of management on the sign-in host.

use axum::Router;
use axum::routing::get;

use crate::app::App;
use crate::{api, console, emergency};

/// Everything that engineers ask for.
pub fn router() -> Router<App> {
    Router::new()
        .route("/.passeur/emergency", get(emergency::show).post(emergency::sign_in))
        .nest("/api/v1", api::router())
        .merge(console::router())
}
