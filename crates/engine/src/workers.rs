//! What strangers can make this node compute: reading XML, opening and checking signatures, signing, passkeys. It runs on a few
//! threads of its own, which yield to the data path, never on the runtime that serves pages.
//!
//! A network has one place at a time and a bounded number of tasks that wait for it, so that whoever floods an address waits for
//! themselves. What waits too long is told so instead of being computed for somebody who has gone.

use std::collections::HashMap;
use std::net::IpAddr;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use passeur_core::address::neighbourhood;
use tokio::sync::{Semaphore, oneshot};

/// Tasks that one network may have waiting, the running one among them: an office of thousands that comes in the morning.
const NETWORK_MAX: usize = 64;
/// Tasks that may wait in all.
const ALL_MAX: usize = 1_000;
/// How long a task waits for a place.
const WAITS: Duration = Duration::from_secs(5);
/// The same for a document of an engineer.
const DOCUMENTS_WAIT: Duration = Duration::from_secs(20);
/// The most threads, and how far they yield to the threads of the data path (`nice`).
const THREADS_MAX: usize = 4;
const NICE: i32 = 10;
/// How far everything yields that is no request of a live session: sign-ins, pages, the API.
const CONTROL_NICE: i32 = 5;

type Task = Box<dyn FnOnce() + Send>;

/// The runtime of everything but the data path, whose threads have the processors first. Threads inherit this: what is started from
/// the thread that waits for the runtime does not yield, and so the data path is started from there.
///
/// # Errors
/// When the system gives no threads.
pub fn runtime() -> std::io::Result<tokio::runtime::Runtime> {
    let mut builder = tokio::runtime::Builder::new_multi_thread();
    builder.on_thread_start(|| yields(CONTROL_NICE));
    builder.enable_all().build()
}

/// Lets other threads have the processors first from now on, where this thread may say so.
fn yields(by: i32) {
    if let Err(e) = rustix::process::setpriority_process(None, by) {
        tracing::debug!(error = %e, "a thread does not yield to the data path");
    }
}

/// A task was not run: too many wait already, or it waited too long.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("too much is being checked just now")]
pub struct Overloaded;

/// The threads, and who waits for them.
pub struct Workers {
    tasks: SyncSender<Task>,
    places: Arc<Semaphore>,
    networks: Mutex<HashMap<String, Network>>,
    waits: Duration,
}

struct Network {
    place: Arc<Semaphore>,
    waiting: usize,
}

/// Takes a network's waiting task off the count, whatever becomes of it.
struct Waiting<'a>(&'a Workers, String);

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        let mut networks = self.0.networks.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(n) = networks.get_mut(&self.1) {
            n.waiting -= 1;
            if n.waiting == 0 {
                networks.remove(&self.1);
            }
        }
    }
}

impl Workers {
    /// One thread less than there are cores, and at least one.
    pub fn start() -> Workers {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        Workers::with(cores.saturating_sub(1).clamp(1, THREADS_MAX), WAITS)
    }

    fn with(threads: usize, waits: Duration) -> Workers {
        // No more tasks than places are ever sent: nothing waits in the channel.
        let (tasks, received) = sync_channel::<Task>(threads);
        let received = Arc::new(Mutex::new(received));
        let started = (0..threads).filter(|i| {
            let received = received.clone();
            let thread = std::thread::Builder::new().name(format!("check-{i}"));
            thread
                .spawn(move || work(&received))
                .inspect_err(|e| tracing::error!(error = %e, "a thread could not be started"))
                .is_ok()
        });
        let places = Arc::new(Semaphore::new(started.count()));
        Workers { tasks, places, networks: Mutex::default(), waits }
    }

    /// One thread for what engineers have computed of documents: checking, comparing, rehearsing. Each engineer has one place.
    pub fn for_documents() -> Workers {
        Workers::with(1, DOCUMENTS_WAIT)
    }

    /// Runs a task for somebody at an address.
    ///
    /// # Errors
    /// [`Overloaded`] where it was not run, or did not come to an end.
    pub async fn run<T: Send + 'static>(
        &self,
        address: IpAddr,
        task: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Overloaded> {
        self.run_for(&neighbourhood(address).to_string(), task).await
    }

    /// Runs a task for somebody of this name.
    ///
    /// # Errors
    /// [`Overloaded`] where it was not run, or did not come to an end.
    pub async fn run_for<T: Send + 'static>(
        &self,
        whose: &str,
        task: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Overloaded> {
        let network = whose.to_owned();
        let place = {
            let mut networks = self.networks.lock().unwrap_or_else(|e| e.into_inner());
            let all: usize = networks.values().map(|n| n.waiting).sum();
            let this =
                networks.entry(network.clone()).or_insert_with(|| Network { place: Arc::new(Semaphore::new(1)), waiting: 0 });
            if all >= ALL_MAX || this.waiting >= NETWORK_MAX {
                return Err(Overloaded);
            }
            this.waiting += 1;
            this.place.clone()
        };
        let waiting = Waiting(self, network);
        let places = async { (place.acquire_owned().await, self.places.clone().acquire_owned().await) };
        let (Ok(of_network), Ok(of_all)) = tokio::time::timeout(self.waits, places).await.map_err(|_| Overloaded)? else {
            return Err(Overloaded);
        };
        let (done, result) = oneshot::channel();
        let run: Task = Box::new(move || {
            // Nobody may wait for it any more; the places are free only when it has ended.
            let _ = done.send(task());
            drop((of_network, of_all));
        });
        self.tasks.try_send(run).map_err(|_| Overloaded)?;
        let result = result.await.map_err(|_| Overloaded);
        drop(waiting);
        result
    }
}

/// One thread: task after task, until the service is gone.
fn work(tasks: &Mutex<Receiver<Task>>) {
    yields(NICE);
    loop {
        let next = tasks.lock().unwrap_or_else(|e| e.into_inner()).recv();
        let Ok(task) = next else { return };
        if catch_unwind(AssertUnwindSafe(task)).is_err() {
            tracing::error!("a check panicked; it counts as failed");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    fn at(last: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, last])
    }

    /// A task that runs until it is let go, and says that it began.
    fn held() -> (impl FnOnce() + Send + 'static, mpsc::Receiver<()>, mpsc::Sender<()>) {
        let (began, begun) = mpsc::channel();
        let (go, wait) = mpsc::channel();
        let task = move || {
            let _ = began.send(());
            let _ = wait.recv();
        };
        (task, begun, go)
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_network_has_one_place_and_leaves_the_others_to_others() {
        let workers = Arc::new(Workers::with(2, Duration::from_millis(200)));
        let (task, begun, go) = held();
        let first = tokio::spawn({
            let w = workers.clone();
            async move { w.run(at(1), task).await }
        });
        tokio::task::spawn_blocking(move || begun.recv()).await.unwrap().unwrap();
        // The second task of the network waits for the first, and then no longer; another network is served meanwhile.
        assert_eq!(workers.run(at(1), || 1).await, Err(Overloaded));
        assert_eq!(workers.run(at(2), || 2).await, Ok(2));
        go.send(()).unwrap();
        assert_eq!(first.await.unwrap(), Ok(()));
        assert_eq!(workers.run(at(1), || 3).await, Ok(3));
        assert!(workers.networks.lock().unwrap().is_empty(), "nothing is remembered of networks that wait for nothing");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn tasks_that_wait_are_bounded_by_network_and_in_all() {
        let workers = Arc::new(Workers::with(1, Duration::from_secs(60)));
        let (task, begun, go) = held();
        let w = workers.clone();
        let mut all = vec![tokio::spawn(async move { w.run(at(1), task).await })];
        tokio::task::spawn_blocking(move || begun.recv()).await.unwrap().unwrap();
        for network in 1..=16_u8 {
            for _ in 0..NETWORK_MAX {
                let w = workers.clone();
                all.push(tokio::spawn(async move { w.run(at(network), || ()).await }));
            }
        }
        // Only who is refused comes to an end before the first task is let go.
        let refused = 1 + 16 * NETWORK_MAX - ALL_MAX;
        while all.iter().filter(|one| one.is_finished()).count() < refused {
            tokio::task::yield_now().await;
        }
        assert_eq!(workers.networks.lock().unwrap().values().map(|n| n.waiting).sum::<usize>(), ALL_MAX);
        assert_eq!(workers.run(at(99), || ()).await, Err(Overloaded));
        go.send(()).unwrap();
        let mut ended = 0;
        for one in all {
            ended += usize::from(one.await.unwrap().is_err());
        }
        assert_eq!(ended, refused);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_panic_fails_its_own_task_alone() {
        let workers = Workers::with(1, WAITS);
        assert_eq!(workers.run(at(1), || -> u8 { panic!("as this test wants") }).await, Err(Overloaded));
        assert_eq!(workers.run(at(1), || 1).await, Ok(1));
    }
}
