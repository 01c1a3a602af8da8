//! Passwords are hashed a few at a time: each takes 19 MiB and tens of milliseconds on purpose, and whoever asks need not be
//! signed in. Of one name one try is looked at at a time, so that tries at once are counted like tries one after the other.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use actix_web::http::StatusCode;
use tokio::sync::{OwnedMutexGuard, Semaphore, oneshot};

use crate::problem::Problem;

/// So many are hashed at once.
const AT_ONCE: usize = 2;
/// So many wait at most; who comes then is told to come again.
const WAITING: usize = 32;
/// So long one waits at most.
const PATIENCE: Duration = Duration::from_secs(5);

type Work = Box<dyn FnOnce() + Send>;

/// Where passwords are hashed: on threads of its own, as each thread keeps the memory it once had.
#[derive(Debug)]
pub struct Hashing {
    work: std::sync::mpsc::Sender<Work>,
    queue: Arc<Semaphore>,
    names: Mutex<HashMap<String, Arc<tokio::sync::Mutex<()>>>>,
}

impl Default for Hashing {
    fn default() -> Self {
        let (work, waiting) = std::sync::mpsc::channel::<Work>();
        let waiting = Arc::new(Mutex::new(waiting));
        for _ in 0..AT_ONCE {
            let waiting = Arc::clone(&waiting);
            std::thread::spawn(move || {
                loop {
                    let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    // Nobody is left to give any.
                    let Ok(work) = next else { return };
                    work();
                }
            });
        }
        Self { work, queue: Arc::new(Semaphore::new(AT_ONCE + WAITING)), names: Mutex::default() }
    }
}

fn busy() -> Problem {
    let sentence = "Many people are signing in just now. Try again in a moment.";
    let mut problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, "busy", sentence);
    problem.retry_after = Some(2);
    problem
}

impl Hashing {
    /// Does what hashes, away from the workers, in its turn.
    ///
    /// # Errors
    /// 503 where too many wait, or the place does not come.
    pub(crate) async fn run<T: Send + 'static>(&self, hash: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
        let in_queue = Arc::clone(&self.queue).try_acquire_owned().map_err(|_| busy())?;
        let (done, result) = oneshot::channel();
        let work = move || {
            // Whoever does not wait for it any more has no need of it.
            if !done.is_closed() {
                let _unheard = done.send(hash());
            }
            drop(in_queue);
        };
        self.work.send(Box::new(work)).map_err(|_| busy())?;
        tokio::time::timeout(PATIENCE, result).await.map_err(|_| busy())?.map_err(|_| busy())
    }

    /// The one place where a try to sign in with a name is looked at; whoever holds it is the only one.
    pub(crate) async fn alone(&self, name: &str) -> Result<OwnedMutexGuard<()>, Problem> {
        let of_name = {
            let mut names = self.names.lock().unwrap_or_else(PoisonError::into_inner);
            names.retain(|_, of_name| Arc::strong_count(of_name) > 1);
            Arc::clone(names.entry(name.trim().to_lowercase()).or_default())
        };
        tokio::time::timeout(PATIENCE, of_name.lock_owned()).await.map_err(|_| busy())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[actix_web::test]
    async fn few_are_hashed_at_once_and_the_queue_ends() {
        let hashing = Arc::new(Hashing::default());
        let running = Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let most = Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let mut all = Vec::new();
        for _ in 0..100 {
            let (hashing, running, most) = (Arc::clone(&hashing), Arc::clone(&running), Arc::clone(&most));
            all.push(actix_web::rt::spawn(async move {
                hashing
                    .run(move || {
                        use std::sync::atomic::Ordering::SeqCst;
                        most.fetch_max(running.fetch_add(1, SeqCst) + 1, SeqCst);
                        std::thread::sleep(Duration::from_millis(5));
                        running.fetch_sub(1, SeqCst);
                    })
                    .await
                    .is_ok()
            }));
        }
        let mut done = 0;
        for one in all {
            done += usize::from(one.await.unwrap());
        }
        assert_eq!((done, most.load(std::sync::atomic::Ordering::SeqCst)), (AT_ONCE + WAITING, AT_ONCE));
    }

    #[actix_web::test]
    async fn of_one_name_one_try_is_looked_at() {
        let hashing = Hashing::default();
        let first = hashing.alone("Tess").await.unwrap();
        let second = tokio::time::timeout(Duration::from_millis(20), hashing.alone(" tess")).await;
        assert!(second.is_err(), "the same name waits");
        let _other = hashing.alone("otto").await.unwrap();
        drop(first);
        drop(hashing.alone("tess").await.unwrap());
    }
}
