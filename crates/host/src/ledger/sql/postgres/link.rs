//! One connection to a PostgreSQL server.
//!
//! The connection lives on a thread of its own with its own runtime, so that a ledger can be asked from anywhere: from a command, or from
//! within a service that has a runtime. The caller's thread sleeps until the answer is there.

use super::settings::{Encryption, Settings};
use super::tls::Tls;
use crate::ledger::sql::{SqlError, SqlResult};
use futures_util::{Stream, StreamExt as _};
use std::future::Future;
use std::pin::pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::task::{Context, Poll, Wake, Waker};
use std::time::{Duration, Instant};
use tokio_postgres::error::Severity;
use tokio_postgres::tls::{MakeTlsConnect, NoTls, TlsConnect};
use tokio_postgres::{AsyncMessage, Client, Socket};

/// How long an answer is waited for.
pub(super) const PATIENCE: Duration = Duration::from_secs(30);

/// How long a server may take from the first packet until it lets us in.
const WELCOME: Duration = Duration::from_secs(15);

/// A connection.
pub(super) struct Link {
    pub(super) client: Client,
    /// Set when the server warned.
    warned: Arc<AtomicBool>,
}

impl Link {
    /// Connects.
    ///
    /// Errors: no server can be reached, none can be written, its certificate does not verify, it refuses us.
    pub(super) fn new(settings: &Settings, tls: Option<Tls>) -> SqlResult<Link> {
        match (&settings.encryption, tls) {
            (Encryption::Verified { .. }, Some(tls)) => Link::through(settings, tls),
            _ => Link::through(settings, NoTls),
        }
    }

    fn through<T>(settings: &Settings, tls: T) -> SqlResult<Link>
    where
        T: MakeTlsConnect<Socket> + Send + 'static,
        T::Stream: Send,
        T::TlsConnect: Send,
        <T::TlsConnect as TlsConnect<Socket>>::Future: Send,
    {
        let (made, making) = std::sync::mpsc::sync_channel(1);
        let (config, warned) = (settings.config.clone(), Arc::new(AtomicBool::new(false)));
        let seen = warned.clone();
        let drive = move || {
            let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
                Ok(r) => r,
                Err(e) => return drop(made.send(Err(SqlError::Unreachable(e.to_string())))),
            };
            runtime.block_on(async move {
                match config.connect(tls).await {
                    Ok((client, mut connection)) => {
                        let _ = made.send(Ok(client));
                        let mut messages = futures_util::stream::poll_fn(move |cx| connection.poll_message(cx));
                        while let Some(Ok(message)) = messages.next().await {
                            if let AsyncMessage::Notice(n) = message
                                && n.parsed_severity() == Some(Severity::Warning)
                            {
                                seen.store(true, Ordering::SeqCst);
                            }
                        }
                    }
                    Err(e) => drop(made.send(Err(e.into()))),
                }
            });
        };
        std::thread::Builder::new()
            .name("ledger".into())
            .spawn(drive)
            .map_err(|e| SqlError::Unreachable(e.to_string()))?;
        let client = making.recv_timeout(WELCOME).map_err(|_| SqlError::Silent(WELCOME.as_secs()))??;
        Ok(Link { client, warned })
    }

    /// True if the server warned since this was asked last.
    pub(super) fn has_warned(&self) -> bool {
        self.warned.swap(false, Ordering::SeqCst)
    }
}

/// Connections of this process that nobody uses now, each to a database whose layout was looked at. A use case opens the ledger more than
/// once, and a service for each of its tasks.
#[derive(Clone, Default)]
pub(crate) struct Pool(Arc<Mutex<Vec<(String, Link)>>>);

/// More are closed.
const KEPT: usize = 8;

impl std::fmt::Debug for Pool {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Pool")
    }
}

impl Pool {
    fn all(&self) -> MutexGuard<'_, Vec<(String, Link)>> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// One to this URL, if there is a good one.
    pub(super) fn taken(&self, url: &str) -> Option<Link> {
        let mut all = self.all();
        all.retain(|(_, l)| !l.client.is_closed());
        let at = all.iter().position(|(u, _)| u == url)?;
        Some(all.swap_remove(at).1)
    }

    pub(super) fn give(&self, url: &str, link: Link) {
        let mut all = self.all();
        if all.len() < KEPT {
            all.push((url.to_owned(), link));
        }
    }
}

/// Wakes a sleeping thread.
struct Sleeper(std::thread::Thread);

impl Wake for Sleeper {
    fn wake(self: Arc<Sleeper>) {
        self.0.unpark();
    }
}

/// Sleeps until there is an answer.
///
/// Errors: there is none in time. Nothing is cancelled: what the server was asked may still be done.
pub(super) fn wait<F: Future>(future: F) -> SqlResult<F::Output> {
    let mut future = pin!(future);
    wait_for(|cx| future.as_mut().poll(cx))
}

/// The next item of a stream.
///
/// Errors: as for [`wait`].
pub(super) fn next<S: Stream + Unpin>(stream: &mut S) -> SqlResult<Option<S::Item>> {
    wait_for(|cx| stream.poll_next_unpin(cx))
}

fn wait_for<T>(mut poll: impl FnMut(&mut Context<'_>) -> Poll<T>) -> SqlResult<T> {
    let waker = Waker::from(Arc::new(Sleeper(std::thread::current())));
    let mut cx = Context::from_waker(&waker);
    let until = Instant::now() + PATIENCE;
    loop {
        if let Poll::Ready(out) = poll(&mut cx) {
            return Ok(out);
        }
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(SqlError::Silent(PATIENCE.as_secs()));
        }
        std::thread::park_timeout(left);
    }
}
