//! A limit for a whole conversation: each single answer may come in time, and the next one, and the next, for ever.

use std::net::{Shutdown, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

/// So long everything may take that is asked of one address, up to the end of the handshake or the last probe after a failed one.
pub(super) const WHOLE: Duration = Duration::from_secs(20);

/// Ends the conversation at a moment, unless it is dropped before.
pub(super) struct Limit {
    passed: Arc<AtomicBool>,
    _done: Sender<()>,
}

impl Limit {
    /// For this connection. Where it cannot be watched, each answer's own limit remains.
    pub(super) fn until(socket: &TcpStream, until: Instant) -> Limit {
        let passed = Arc::new(AtomicBool::new(false));
        let (done, waits) = channel::<()>();
        if let Ok(watched) = socket.try_clone() {
            let passed = passed.clone();
            std::thread::spawn(move || {
                if waits.recv_timeout(until.saturating_duration_since(Instant::now())) == Err(RecvTimeoutError::Timeout)
                {
                    passed.store(true, Ordering::SeqCst);
                    let _ = watched.shutdown(Shutdown::Both);
                }
            });
        }
        Limit { passed, _done: done }
    }

    /// True if it was ended.
    pub(super) fn has_passed(&self) -> bool {
        self.passed.load(Ordering::SeqCst)
    }
}
