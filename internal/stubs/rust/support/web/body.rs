use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body as HttpBody, Frame, SizeHint};

/// Is any error, as HTTP libraries have it.
pub type BoxError = Box<dyn std::error::Error + Send + Sync>;

/// Is the body of an answer or a request that is sent.
pub struct Body(Kind);

enum Kind {
    Whole(Option<Bytes>),
    Pieces(Pin<Box<dyn Pieces>>),
}

/// Makes a body as it is read.
pub(super) trait Pieces: Send {
    /// Is the next piece, none at the end; an error breaks the connection off.
    fn poll(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Bytes, BoxError>>>;
}

impl Body {
    /// Is no body.
    #[must_use]
    pub fn empty() -> Self {
        Self(Kind::Whole(None))
    }

    pub(super) fn whole(data: impl Into<Bytes>) -> Self {
        let data = data.into();
        Self(Kind::Whole(if data.is_empty() { None } else { Some(data) }))
    }

    pub(super) fn pieces(pieces: impl Pieces + 'static) -> Self {
        Self(Kind::Pieces(Box::pin(pieces)))
    }
}

impl std::fmt::Debug for Body {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Body")
    }
}

impl HttpBody for Body {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        match &mut self.0 {
            Kind::Whole(data) => Poll::Ready(data.take().map(|data| Ok(Frame::data(data)))),
            Kind::Pieces(pieces) => pieces
                .as_mut()
                .poll(cx)
                .map(|piece| piece.map(|piece| piece.map(Frame::data))),
        }
    }

    fn is_end_stream(&self) -> bool {
        matches!(self.0, Kind::Whole(None))
    }

    fn size_hint(&self) -> SizeHint {
        match &self.0 {
            Kind::Whole(data) => {
                SizeHint::with_exact(data.as_ref().map_or(0, |data| data.len() as u64))
            }
            Kind::Pieces(_) => SizeHint::default(),
        }
    }
}

/// Is a body that comes.
pub(super) type Incoming = Pin<Box<dyn HttpBody<Data = Bytes, Error = BoxError> + Send>>;

/// Makes one type of all bodies that come.
pub(super) fn incoming<B>(body: B) -> Incoming
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<BoxError>,
{
    Box::pin(Mapped(Box::pin(body)))
}

struct Mapped<B>(Pin<Box<B>>);

impl<B> HttpBody for Mapped<B>
where
    B: HttpBody<Data = Bytes>,
    B::Error: Into<BoxError>,
{
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        self.0
            .as_mut()
            .poll_frame(cx)
            .map(|frame| frame.map(|frame| frame.map_err(Into::into)))
    }

    fn is_end_stream(&self) -> bool {
        self.0.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.0.size_hint()
    }
}

/// Is the next piece of a body; none at its end.
pub(super) async fn piece(body: &mut Incoming) -> Option<Result<Bytes, BoxError>> {
    loop {
        let frame = std::future::poll_fn(|cx| body.as_mut().poll_frame(cx)).await?;
        match frame.map(Frame::into_data) {
            Ok(Ok(data)) => return Some(Ok(data)),
            Ok(Err(_)) => {} // trailers
            Err(e) => return Some(Err(e)),
        }
    }
}

/// Says why a whole body was not read.
pub(super) enum Unread {
    TooLarge,
    Broken(BoxError),
}

/// Reads a whole body of at most `limit` bytes.
pub(super) async fn whole(body: &mut Incoming, limit: usize) -> Result<Bytes, Unread> {
    if body.size_hint().lower() > limit as u64 {
        return Err(Unread::TooLarge);
    }
    let mut all = match piece(body).await {
        None => return Ok(Bytes::new()),
        Some(first) => first.map_err(Unread::Broken)?,
    };
    if all.len() > limit {
        return Err(Unread::TooLarge);
    }
    let mut more = None;
    while let Some(next) = piece(body).await {
        let next = next.map_err(Unread::Broken)?;
        let grown = more.get_or_insert_with(|| all.to_vec());
        if grown.len() + next.len() > limit {
            return Err(Unread::TooLarge);
        }
        grown.extend_from_slice(&next);
    }
    if let Some(grown) = more {
        all = grown.into();
    }
    Ok(all)
}

/// Reads on after an early answer, for a while: a client that is still sending would lose the answer if the connection were
/// closed on it.
pub(super) async fn drain(mut body: Incoming) {
    const PAUSE: Duration = Duration::from_secs(2);
    const TIME: Duration = Duration::from_secs(10);
    const BYTES: usize = 64 << 20;
    let read = async {
        let mut total = 0;
        while total < BYTES {
            match tokio::time::timeout(PAUSE, piece(&mut body)).await {
                Ok(Some(Ok(data))) => total += data.len(),
                _ => return,
            }
        }
    };
    let _ = tokio::time::timeout(TIME, read).await;
}
