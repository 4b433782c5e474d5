//! The server of the matrix in Rust, as far as its stubs go.
#![forbid(unsafe_code)]

use std::collections::{BTreeMap, HashMap};
use std::future::Future;
use std::marker::PhantomData;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::Duration;

use calls::faithful::web::{self, Call, Elements, Problem, ServerOptions, Stream};
use calls::skerry::matrix::pier::{
    BerthError, BoardError, CountError, DriftError, EchoError, FlakyError, ForgetError,
    GuardedError, GuardedSumError, HushError, LeaveError, LookError, MoveError, Pier, PierServer,
    PingError, RefuseError, RepeatError, SleepError, StampError, SumError, TailError, TaleError,
    WeighError, WokenError,
};
use calls::skerry::matrix::{
    BerthAnswer, BerthRequest, Boarded, CountRequest, EchoAnswer, EchoRequest, Forgotten, Gangway,
    Hush, Load, LookRequest, MoveRequest, Moved, Nothing, PierFull, RefuseRequest, SleepRequest,
    Stamp, StampRequest, Tale, Tick, Total,
};
use tokio::time::sleep;

#[derive(Default)]
struct Desk {
    tries: Mutex<HashMap<u32, u32>>,
    woken: Arc<AtomicU64>,
}

/// Counts callers that had enough: then it is dropped.
struct Waits(Arc<AtomicU64>);

impl Drop for Waits {
    fn drop(&mut self) {
        self.0.fetch_add(1, Ordering::SeqCst);
    }
}

/// Says nothing, or counts, until its caller has had enough.
struct Waiting<E> {
    next: Option<u32>,
    pause: Pin<Box<tokio::time::Sleep>>,
    _waits: Waits,
    failure: PhantomData<fn() -> E>,
}

impl<E> Waiting<E> {
    fn new(waits: Waits, next: Option<u32>) -> Self {
        Self {
            next,
            pause: Box::pin(sleep(PAUSE)),
            _waits: waits,
            failure: PhantomData,
        }
    }
}

const PAUSE: Duration = Duration::from_millis(5);

impl<E> Stream for Waiting<E> {
    type Item = Result<Tick, E>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let Some(n) = self.next else {
            return Poll::Pending;
        };
        if self.pause.as_mut().poll(cx).is_pending() {
            return Poll::Pending;
        }
        self.pause = Box::pin(sleep(PAUSE));
        self.next = Some(n + 1);
        Poll::Ready(Some(Ok(Tick::builder().n(n).build())))
    }
}

/// Counts, and fails where it is told to.
struct Counting {
    request: CountRequest,
    next: u32,
}

impl Stream for Counting {
    type Item = Result<Tick, CountError>;

    fn poll_next(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let n = self.next;
        if n >= self.request.count {
            return Poll::Ready(None);
        }
        self.next += 1;
        if self.request.fails_after == Some(n) {
            let failure = if self.request.badly {
                Problem::internal("the password is wrong").into()
            } else {
                PierFull::builder().berths(n).build().into()
            };
            return Poll::Ready(Some(Err(failure)));
        }
        let tick = Tick::builder().n(n);
        let size = self.request.size as usize;
        let tick = if size > 0 {
            tick.text("x".repeat(size))
        } else {
            tick
        };
        Poll::Ready(Some(Ok(tick.build())))
    }
}

/// Adds ticks up; true is the end.
async fn added<E: From<Problem> + From<PierFull>>(
    mut ticks: Elements<Tick>,
    from: u64,
) -> Result<u64, E> {
    let mut total = from;
    while let Some(tick) = ticks.next().await {
        let tick = tick?;
        match tick.text.as_deref() {
            Some("stop") => return Ok(total),
            Some("full") => return Err(PierFull::builder().berths(tick.n).build().into()),
            _ => total += u64::from(tick.n),
        }
    }
    Ok(total)
}

impl Pier for Desk {
    async fn echo(&self, call: &Call, request: EchoRequest) -> Result<EchoAnswer, EchoError> {
        let answer = EchoAnswer::builder().request(request);
        let answer = match call.trace() {
            Some((parent, _)) => answer.trace(parent),
            None => answer,
        };
        Ok(answer.build())
    }

    async fn berth(&self, _: &Call, r: BerthRequest) -> Result<BerthAnswer, BerthError> {
        let mut answer = BerthAnswer::builder()
            .code(r.code)
            .number(r.number)
            .side(r.side)
            .decks(r.decks)
            .name(r.name)
            .wait(r.wait)
            .build();
        answer.since = r.since;
        answer.ticket = r.ticket;
        Ok(answer)
    }

    async fn look(&self, _: &Call, request: LookRequest) -> Result<LookRequest, LookError> {
        Ok(request)
    }

    async fn stamp(&self, _: &Call, r: StampRequest) -> Result<Stamp, StampError> {
        let count = u32::try_from(r.code.len()).unwrap_or(u32::MAX);
        let mut stamp = Stamp::builder()
            .tag(format!("\"{}\"", r.code))
            .count(count)
            .name(r.code)
            .build();
        if stamp.name == "kept" {
            stamp.cache = Some("max-age=60".into());
        }
        stamp.visit = r.visit;
        stamp.how = r.how;
        Ok(stamp)
    }

    async fn move_(&self, _: &Call, request: MoveRequest) -> Result<Moved, MoveError> {
        Ok(Moved::builder().at(request.to).note("moved, to: ü").build())
    }

    async fn forget(&self, _: &Call, request: StampRequest) -> Result<Forgotten, ForgetError> {
        let answer = Forgotten::builder().visit("");
        Ok(match request.code.parse() {
            Ok(left) => answer.left(left).build(),
            Err(_) => answer.build(),
        })
    }

    async fn tale(&self, _: &Call, request: StampRequest) -> Result<Tale, TaleError> {
        Ok(Tale::builder()
            .tag(format!("\"{}\"", request.code))
            .text(request.code.repeat(1000))
            .build())
    }

    async fn hush(&self, _: &Call, request: EchoRequest) -> Result<Hush, HushError> {
        Ok(Hush::builder()
            .text(request.text.unwrap_or_default())
            .build())
    }

    async fn sleep(&self, _: &Call, _: SleepRequest) -> Result<(), SleepError> {
        let _waits = Waits(Arc::clone(&self.woken));
        std::future::pending().await
    }

    async fn drift(
        &self,
        _: &Call,
        _: SleepRequest,
    ) -> Result<impl Stream<Item = Result<Tick, DriftError>> + Send + 'static, DriftError> {
        Ok(Waiting::new(Waits(Arc::clone(&self.woken)), Some(0)))
    }

    async fn tail(
        &self,
        _: &Call,
        _: SleepRequest,
    ) -> Result<impl Stream<Item = Result<Tick, TailError>> + Send + 'static, TailError> {
        Ok(Waiting::new(Waits(Arc::clone(&self.woken)), None))
    }

    async fn woken(&self, _: &Call) -> Result<Total, WokenError> {
        Ok(Total::builder()
            .total(self.woken.load(Ordering::SeqCst))
            .build())
    }

    async fn weigh(&self, _: &Call, load: Load) -> Result<Total, WeighError> {
        Ok(Total::builder()
            .total((load.wide.len() + load.counts.len() + load.texts.len()) as u64)
            .build())
    }

    async fn ping(&self, _: &Call, request: Nothing) -> Result<Nothing, PingError> {
        Ok(request)
    }

    async fn leave(&self, _: &Call, _: LookRequest) -> Result<(), LeaveError> {
        Ok(())
    }

    async fn count(
        &self,
        _: &Call,
        request: CountRequest,
    ) -> Result<impl Stream<Item = Result<Tick, CountError>> + Send + 'static, CountError> {
        Ok(Counting { request, next: 0 })
    }

    async fn sum(&self, _: &Call, elements: Elements<Tick>) -> Result<Total, SumError> {
        let total = added::<SumError>(elements, 0).await?;
        Ok(Total::builder().total(total).build())
    }

    async fn board(
        &self,
        _: &Call,
        head: Gangway,
        elements: Elements<Tick>,
    ) -> Result<Boarded, BoardError> {
        let total = added::<BoardError>(elements, head.since).await?;
        let mut boarded = Boarded::builder()
            .code(head.code)
            .decks(head.decks)
            .total(total)
            .build();
        boarded.device = head.device;
        boarded.visit = head.visit;
        Ok(boarded)
    }

    async fn refuse(&self, _: &Call, request: RefuseRequest) -> Result<(), RefuseError> {
        match &*request.how {
            "declared" => Err(PierFull::builder().berths(7).build().into()),
            "hang" => std::future::pending().await,
            "panic" => panic!("the password is wrong"),
            _ => Err(Problem::internal("the password is wrong").into()),
        }
    }

    async fn repeat(&self, _: &Call, request: Load) -> Result<Load, RepeatError> {
        Ok(request)
    }

    async fn guarded(&self, call: &Call) -> Result<EchoAnswer, GuardedError> {
        let request = EchoRequest::builder().names(BTreeMap::new()).build();
        let answer = EchoAnswer::builder().request(request);
        Ok(match call.credential("crew") {
            Some(crew) => answer.crew(crew).build(),
            None => answer.build(),
        })
    }

    async fn guarded_sum(
        &self,
        _: &Call,
        mut elements: Elements<Tick>,
    ) -> Result<Total, GuardedSumError> {
        let mut total = 0;
        while let Some(tick) = elements.next().await {
            total += u64::from(tick?.n);
        }
        Ok(Total::builder().total(total).build())
    }

    async fn flaky(&self, _: &Call, request: SleepRequest) -> Result<Total, FlakyError> {
        let tries = {
            let mut all = self
                .tries
                .lock()
                .map_err(|e| Problem::internal(e.to_string()))?;
            let tries = all.entry(request.id).or_insert(0);
            *tries += 1;
            *tries
        };
        if tries < 3 {
            return Err(Problem::overloaded(Duration::ZERO).into());
        }
        Ok(Total::builder().total(u64::from(tries)).build())
    }
}

#[tokio::main]
async fn main() -> std::io::Result<()> {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    println!("listening on http://{}", listener.local_addr()?);
    let options = ServerOptions::new()
        .element_limit(200_000)
        .body_limit(300_000)
        .authorizer(|call| {
            Box::pin(async move {
                match call.credential("desk") {
                    Some("panic") => panic!("the authorizer fell"),
                    Some("stolen") => Err(Problem::forbidden("this key was stolen")),
                    Some("expired") => Err(Problem::unauthenticated("this key has expired")),
                    _ => Ok(()),
                }
            })
        });
    web::serve(
        listener,
        PierServer::with(Desk::default(), options),
        std::future::pending(),
    )
    .await
}
