//! A client of the matrix in Rust: it says what comes of each call.
#![forbid(unsafe_code)]

use std::error::Error;
use std::pin::Pin;
use std::task::{Context, Poll};

use calls::faithful::web::{CallError, ClientOptions, Stream};
use calls::skerry::matrix::pier::PierClient;
use calls::skerry::matrix::{
    BerthRequest, CountRequest, EchoRequest, Gangway, MoveRequest, RefuseRequest, Side,
    StampRequest, Tick,
};

/// Is a stream of what is there.
struct Listed(std::vec::IntoIter<Tick>);

impl Stream for Listed {
    type Item = Tick;

    fn poll_next(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Tick>> {
        Poll::Ready(self.0.next())
    }
}

fn ticks(to: u32) -> Listed {
    Listed(
        (0..to)
            .map(|n| Tick::builder().n(n).build())
            .collect::<Vec<_>>()
            .into_iter(),
    )
}

fn outcome<T: std::fmt::Debug, E: std::fmt::Debug>(result: Result<T, CallError<E>>) -> String {
    match result {
        Ok(answer) => format!("{answer:?}"),
        Err(CallError::Declared(e)) => format!("declared {e:?}"),
        Err(CallError::Problem(p)) => format!("problem {} {}", p.status, p.name()),
        Err(CallError::NoAnswer(e)) => format!("no answer, {}", e.reason()),
        Err(CallError::Invalid(e)) => format!("invalid {e}"),
        Err(CallError::MissingCredential(e)) => format!("needs {}", e.needs()),
        Err(CallError::NotModified(tag)) => format!("not modified since {tag}"),
        Err(e) => format!("{e:?}"),
    }
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let address = std::env::args().nth(1).ok_or("the address of a server")?;
    for options in [
        ClientOptions::new(),
        ClientOptions::new().json(),
        ClientOptions::new().compression(),
    ] {
        let pier = PierClient::connect(&address, options)?;
        let echo = EchoRequest::builder()
            .text("Skerry ü")
            .names([("a".into(), 1), ("b".into(), i64::MIN)].into())
            .build();
        println!(
            "echo {}",
            outcome(pier.echo(&echo).await.map(|answer| answer.request == echo))
        );
        let bad = EchoRequest::builder()
            .text("")
            .names(Default::default())
            .build();
        println!("echo {}", outcome(pier.echo(&bad).await));
        let berth = BerthRequest::builder()
            .code("a/b c")
            .number(-7)
            .side(Side::South)
            .decks(vec![1, 200])
            .since("2026-07-15".parse()?)
            .ticket("t;1")
            .name("Ada")
            .build();
        println!("berth {}", outcome(pier.berth(&berth).await));
        let mut above = berth.clone();
        above.code = "..".into();
        println!("berth {}", outcome(pier.berth(&above).await));
        let stamp = StampRequest::builder()
            .code("x")
            .visit("v 1")
            .how("à%")
            .build();
        let stamped = pier.stamp(&stamp).await;
        let mut known = stamp.clone();
        known.known = stamped.as_ref().ok().map(|stamp| stamp.tag.clone());
        println!("stamp {}", outcome(stamped));
        println!("stamp {}", outcome(pier.stamp(&known).await));
        println!(
            "forget {}",
            outcome(
                pier.forget(&StampRequest::builder().code("12").build())
                    .await
            )
        );
        println!(
            "forget {}",
            outcome(
                pier.forget(&StampRequest::builder().code("x").build())
                    .await
            )
        );
        println!(
            "move {}",
            outcome(pier.move_(&MoveRequest::builder().to("/x").build()).await)
        );
        for how in ["declared", "panic", "else"] {
            println!(
                "refuse {}",
                outcome(
                    pier.refuse(&RefuseRequest::builder().how(how).build())
                        .await
                )
            );
        }
        println!("unwritten {}", outcome(pier.unwritten().await));
        println!("guarded {}", outcome(pier.guarded().await));
        let desk = pier.with(|o| o.credential("desk", "d").credential("crew", "ada"));
        println!("guarded {}", outcome(desk.guarded().await));
        println!(
            "guarded {}",
            outcome(
                desk.with(|o| o.credential("desk", "stolen"))
                    .guarded()
                    .await
            )
        );
        for fails in [None, Some(2)] {
            let mut request = CountRequest::builder().count(3).build();
            request.fails_after = fails;
            let mut answers = pier.count(&request).await.map_err(|e| e.to_string())?;
            while let Some(tick) = answers.next().await {
                println!("count {}", outcome(tick));
            }
        }
        println!("sum {}", outcome(pier.sum(ticks(1000)).await));
        let full = vec![Tick::builder().n(5).text("full").build()];
        println!("sum {}", outcome(pier.sum(Listed(full.into_iter())).await));
        let wrong = vec![Tick::builder().n(2_000_001).build()];
        println!("sum {}", outcome(pier.sum(Listed(wrong.into_iter())).await));
        let head = Gangway::builder()
            .code("g")
            .decks(vec![3])
            .device("d")
            .build();
        println!("board {}", outcome(pier.board(&head, ticks(4)).await));
        let hang = RefuseRequest::builder().how("hang").build();
        let soon = pier.with(|o| o.timeout(std::time::Duration::from_millis(300)));
        println!("refuse {}", outcome(soon.refuse(&hang).await));
    }
    Ok(())
}
