//! WebSockets: bytes both ways until either side or the session ends.

use std::sync::Arc;

use hyper::upgrade::OnUpgrade;
use hyper_util::rt::TokioIo;

use crate::bearer::Bearer;
use crate::listener::Places;

/// Joins the two upgraded connections; an ended session cuts them. Until then the person's holds its places of the caps.
pub(crate) fn join(person: OnUpgrade, upstream: OnUpgrade, bearer: Bearer, places: Option<Arc<Places>>) {
    tokio::spawn(async move {
        let (Ok(person), Ok(upstream)) = (person.await, upstream.await) else { return };
        let (mut person, mut upstream) = (TokioIo::new(person), TokioIo::new(upstream));
        tokio::select! {
            done = tokio::io::copy_bidirectional(&mut person, &mut upstream) => {
                if let Ok((received, sent)) = done {
                    bearer.counters().received(received);
                    bearer.counters().sent(sent);
                }
            }
            () = bearer.until_over() => {}
        }
        drop(places);
    });
}
