//! What moves on a connection: bytes in either direction, and answers that are under way.

use super::body::Body;
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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    #[test]
    fn bytes_in_either_direction_and_answers_under_way_keep_a_connection() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (ours, mut theirs) = tokio::io::duplex(64);
            let moved = Moved::new();
            let mut counted = Counted { inner: ours, moved: moved.clone() };
            let first = moved.deadline();
            tokio::time::sleep(Duration::from_millis(20)).await;
            assert_eq!(moved.deadline(), first, "time alone is no movement");
            counted.write_all(b"a piece of a slow download").await.unwrap();
            let second = moved.deadline();
            assert!(second > first, "a byte that goes out counts");
            tokio::time::sleep(Duration::from_millis(20)).await;
            theirs.write_all(b"x").await.unwrap();
            counted.read_u8().await.unwrap();
            let third = moved.deadline();
            assert!(third > second, "a byte that comes in counts");
            let answering = moved.answering();
            assert!(moved.deadline() > third + Duration::from_secs(600), "a long poll may wait");
            drop(answering);
            assert!(moved.deadline() < third + Duration::from_secs(600));
        });
    }
}
