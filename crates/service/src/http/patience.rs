//! How long somebody may take to read what they asked for.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::Sleep;

/// How long a connection waits for its reader.
const MOST: Duration = Duration::from_secs(20);
/// Bytes that give a reader another second.
const SLOWEST: f64 = 10_000.0;

/// A stream that ends where its reader takes too long. What is read gives it time again, so that a slow line is
/// served and nobody holds an answer for hours.
#[derive(Debug)]
pub(crate) struct Patient<S> {
    stream: S,
    /// How long may be waited yet.
    left: Duration,
    most: Duration,
    waiting: Option<(Pin<Box<Sleep>>, Instant)>,
}

impl<S> Patient<S> {
    pub(crate) fn new(stream: S) -> Self {
        Self::with(stream, MOST)
    }

    fn with(stream: S, most: Duration) -> Self {
        Self { stream, left: most, most, waiting: None }
    }

    /// What came of trying to write, where somebody waits for that no longer than they should.
    fn within<T>(&mut self, tried: Poll<io::Result<T>>, context: &mut Context<'_>) -> Poll<io::Result<T>> {
        if tried.is_ready() {
            if let Some((_, since)) = self.waiting.take() {
                self.left = self.left.saturating_sub(since.elapsed());
            }
            return tried;
        }
        let left = self.left;
        let (sleep, _) = self.waiting.get_or_insert_with(|| (Box::pin(tokio::time::sleep(left)), Instant::now()));
        ready!(sleep.as_mut().poll(context));
        Poll::Ready(Err(io::Error::new(io::ErrorKind::TimedOut, "its reader takes too long")))
    }

    fn wrote(&mut self, bytes: usize) {
        self.left = self.most.min(self.left + Duration::from_secs_f64(bytes as f64 / SLOWEST));
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Patient<S> {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, into)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Patient<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let tried = Pin::new(&mut self.stream).poll_write(context, bytes);
        let tried = self.within(tried, context);
        if let Poll::Ready(Ok(bytes)) = tried {
            self.wrote(bytes);
        }
        tried
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let tried = Pin::new(&mut self.stream).poll_write_vectored(context, bytes);
        let tried = self.within(tried, context);
        if let Poll::Ready(Ok(bytes)) = tried {
            self.wrote(bytes);
        }
        tried
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let tried = Pin::new(&mut self.stream).poll_flush(context);
        self.within(tried, context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let tried = Pin::new(&mut self.stream).poll_shutdown(context);
        self.within(tried, context)
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    const SHORT: Duration = Duration::from_millis(300);

    #[tokio::test]
    async fn whoever_does_not_read_is_let_go() {
        let (ours, _theirs) = tokio::io::duplex(1_000);
        let mut ours = Patient::with(ours, SHORT);
        let ended = ours.write_all(&[0; 5_000]).await.unwrap_err();
        assert_eq!(ended.kind(), io::ErrorKind::TimedOut);
    }

    #[tokio::test]
    async fn whoever_reads_a_byte_now_and_then_is_let_go_too() {
        let (ours, mut theirs) = tokio::io::duplex(100);
        let reading = tokio::spawn(async move {
            while theirs.read_u8().await.is_ok() {
                tokio::time::sleep(SHORT / 10).await;
            }
        });
        let mut ours = Patient::with(ours, SHORT);
        assert_eq!(ours.write_all(&[0; 5_000]).await.unwrap_err().kind(), io::ErrorKind::TimedOut);
        reading.abort();
    }

    #[tokio::test]
    async fn whoever_reads_slowly_gets_all_of_it() {
        let (ours, mut theirs) = tokio::io::duplex(5_000);
        let reading = tokio::spawn(async move {
            let (mut part, mut all) = ([0; 5_000], 0);
            while let Ok(read @ 1..) = theirs.read(&mut part).await {
                all += read;
                tokio::time::sleep(SHORT / 3).await;
            }
            all
        });
        let mut ours = Patient::with(ours, SHORT);
        ours.write_all(&[0; 30_000]).await.unwrap();
        drop(ours);
        assert_eq!(reading.await.unwrap(), 30_000);
    }
}
