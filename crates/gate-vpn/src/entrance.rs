//! One entrance: its VPN server says who comes and goes, and is told who is let in.
//!
//! The connection to the server is made again for as long as the node runs. What is done while it stands is the [`Desk`]'s.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use passeur_gate_network::NetworkGate;
use tokio::sync::{mpsc, watch};
use tokio::time::{Duration, MissedTickBehavior, interval, sleep};

use crate::clients::Clients;
use crate::decisions::Beside;
use crate::desk::{Desk, LOOK_EVERY};
use crate::link::{self, Outgoing};

/// How long until a server that is not there is looked for again.
const AGAIN: Duration = Duration::from_millis(500);

/// The management socket of the VPN server at an entrance of this node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TunnelConfig {
    pub entrance: String,
    pub management: PathBuf,
}

/// Speaks with the VPN server of an entrance until `stop` changes.
pub async fn run(networks: NetworkGate, config: TunnelConfig, mut stop: watch::Receiver<bool>) {
    let mut clients = Clients::default();
    loop {
        let why = match link::connect(&config.management).await {
            Ok((incoming, out)) => {
                let done = serve(&networks, &config, &mut clients, (incoming, out), &mut stop).await;
                done.err().map(|e| e.to_string()).unwrap_or_else(|| "the server closed the connection".to_owned())
            }
            Err(e) => format!("{} cannot be connected to: {e}", config.management.display()),
        };
        if *stop.borrow() {
            return;
        }
        networks.note_entrance(&config.entrance, |seen| {
            if seen.speaks || seen.trouble.is_none() {
                tracing::error!(event = "tunnel.server-lost", entrance = config.entrance, why, "no word from a VPN server");
            }
            (seen.speaks, seen.trouble) = (false, Some(why));
        });
        tokio::select! {
            () = sleep(AGAIN) => {}
            _ = stop.changed() => return,
        }
    }
}

async fn serve(
    networks: &NetworkGate,
    config: &TunnelConfig,
    clients: &mut Clients,
    (mut incoming, out): (link::Incoming, Outgoing),
    stop: &mut watch::Receiver<bool>,
) -> std::io::Result<()> {
    let (found, mut finds) = mpsc::channel(256);
    let (event, mut events) = mpsc::channel(256);
    let reading = tokio::spawn(async move {
        loop {
            let next = match incoming.next().await {
                Ok(None) => return,
                Ok(Some(next)) => Ok(next),
                Err(e) => Err(e),
            };
            let is_over = next.is_err();
            if event.send(next).await.is_err() || is_over {
                return;
            }
        }
    });
    // Numbers of connections are the server's: who was connected before is told by it.
    clients.all.clear();
    let beside = Beside { networks: networks.clone(), entrance: config.entrance.clone(), found };
    let mut desk = Desk::new(beside, clients, out);
    let mut leavings = networks.leavings();
    let mut look = interval(LOOK_EVERY);
    look.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let open = open_to_others(&config.management);
    networks.note_entrance(&config.entrance, |seen| {
        (seen.speaks, seen.trouble, seen.open_to_others) = (false, Some("it has not said yet who is connected".to_owned()), open);
    });
    // What the server logs tells how long it lets clients wait.
    desk.begin().await?;
    tracing::info!(event = "tunnel.server", entrance = config.entrance, "speaking with a VPN server");
    let done = loop {
        let done = tokio::select! {
            event = events.recv() => match event {
                Some(Ok(event)) => desk.heard(event).await,
                Some(Err(e)) => Err(e),
                None => break Ok(()),
            },
            Some(found) = finds.recv() => desk.found(found).await,
            Ok(()) = leavings.changed() => desk.end_who_is_off().await,
            _ = look.tick() => desk.look().await,
            _ = stop.changed() => break Ok(()),
        };
        if let Err(e) = done {
            break Err(e);
        }
    };
    reading.abort();
    done
}

/// The folder of a socket and its mode, where others than its owner and a group of theirs may enter.
fn open_to_others(socket: &Path) -> Option<(String, String)> {
    let folder = socket.parent()?;
    let mode = std::fs::metadata(folder).ok()?.permissions().mode() & 0o777;
    (mode & 0o007 != 0).then(|| (folder.display().to_string(), format!("{mode:04o}")))
}
