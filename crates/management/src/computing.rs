//! What engineers ask about documents, computed where it holds nothing up.

use http::StatusCode;
use passeur_engine::workers::Overloaded;

use crate::api::errors::{ApiError, problem};
use crate::app::App;

/// Computes something about documents on the thread that is there for it. A document takes about a second at most; whoever asks for
/// several has one place.
pub async fn off_the_data_path<T: Send + 'static>(
    app: &App,
    whose: &str,
    task: impl FnOnce() -> T + Send + 'static,
) -> Result<T, ApiError> {
    app.documents.run_for(whose, task).await.map_err(|Overloaded| {
        let words = "Other documents are being checked, compared or rehearsed. Try again in a moment. Nothing was changed.";
        problem(StatusCode::SERVICE_UNAVAILABLE, "busy", "Not now", words)
    })
}
