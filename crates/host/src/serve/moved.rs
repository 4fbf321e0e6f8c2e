//! What moves on a connection: bytes in either direction, and answers that are under way.

use super::answer::Body;
use hyper::body::{Bytes, Frame, SizeHint};
use std::io::Result;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// A connection on which nothing moves and nothing is under way is closed after this time.
const IDLE: Duration = Duration::from_secs(60);
/// One on which an answer is under way but nothing moves: a long poll waits, a client that takes nothing any more is gone.
const WAITING: Duration = Duration::from_secs(15 * 60);

fn start() -> Instant {
    static START: OnceLock<Instant> = OnceLock::new();
    *START.get_or_init(Instant::now)
}

/// When something last moved, and how many answers are under way.
#[derive(Clone, Default)]
pub(super) struct Moved {
    /// Milliseconds since [`start`].
    last: Arc<AtomicU64>,
    under_way: Arc<AtomicUsize>,
}

impl Moved {
    /// From now on.
    pub(super) fn new() -> Moved {
        let moved = Moved::default();
        moved.mark();
        moved
    }

    fn mark(&self) {
        let now = u64::try_from(start().elapsed().as_millis()).unwrap_or(u64::MAX);
        self.last.store(now, Ordering::Relaxed);
    }

    /// When the connection is to be closed if nothing moves until then.
    pub(super) fn deadline(&self) -> Instant {
        let last = start() + Duration::from_millis(self.last.load(Ordering::Relaxed));
        last + if self.under_way.load(Ordering::Relaxed) > 0 { WAITING } else { IDLE }
    }

    /// An answer is under way until this is dropped.
    pub(super) fn answering(&self) -> Answering {
        self.under_way.fetch_add(1, Ordering::Relaxed);
        Answering(self.clone())
    }
}

/// An answer under way.
pub(super) struct Answering(Moved);

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.mark();
        self.0.under_way.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A body whose answer is under way until it has been sent.
pub(super) struct Sent {
    body: Body,
    _answering: Answering,
}

impl Sent {
    pub(super) fn new(body: Body, answering: Answering) -> Sent {
        Sent { body, _answering: answering }
    }
}

impl hyper::body::Body for Sent {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>>>> {
        Pin::new(&mut self.body).poll_frame(cx)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// A connection whose bytes count.
pub(super) struct Counted<T> {
    pub(super) inner: T,
    pub(super) moved: Moved,
}

impl<T: AsyncRead + Unpin> AsyncRead for Counted<T> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<Result<()>> {
        let before = into.filled().len();
        let done = Pin::new(&mut self.inner).poll_read(cx, into);
        if into.filled().len() > before {
            self.moved.mark();
        }
        done
    }
}

impl<T: AsyncWrite + Unpin> AsyncWrite for Counted<T> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, from: &[u8]) -> Poll<Result<usize>> {
        let done = Pin::new(&mut self.inner).poll_write(cx, from);
        if matches!(done, Poll::Ready(Ok(n)) if n > 0) {
            self.moved.mark();
        }
        done
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}
