//! WebSockets: bytes both ways until either side or the session ends.

use std::sync::Arc;

use hyper::upgrade::OnUpgrade;
use hyper_util::rt::TokioIo;

use crate::admission::Admission;

/// Joins the two upgraded connections; an ended session cuts them.
pub(crate) fn join(person: OnUpgrade, upstream: OnUpgrade, admission: Arc<Admission>) {
    tokio::spawn(async move {
        let (Ok(person), Ok(upstream)) = (person.await, upstream.await) else { return };
        let (mut person, mut upstream) = (TokioIo::new(person), TokioIo::new(upstream));
        tokio::select! {
            done = tokio::io::copy_bidirectional(&mut person, &mut upstream) => {
                if let Ok((received, sent)) = done {
                    admission.counters.received(received);
                    admission.counters.sent(sent);
                }
            }
            () = admission.session.until_ended() => {}
        }
    });
}
