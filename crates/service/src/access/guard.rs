//! A body that ends when the token that it was opened with no longer works: a live tail or a long download stops within a second.

use std::{
    io,
    pin::Pin,
    task::{Context, Poll, ready},
    time::Duration,
};

use actix_web::body::{BodySize, BoxBody, MessageBody};
use fenetre_access::registry::Presented;
use tokio::time::{Interval, MissedTickBehavior, interval};

use crate::clock::now;

/// How often a body that waits is checked.
const EVERY: Duration = Duration::from_millis(250);

/// A guarded body.
pub struct Guarded {
    body: BoxBody,
    presented: Presented,
    every: Interval,
}

impl Guarded {
    /// Ends a body when its token ends.
    pub fn new(body: BoxBody, presented: Presented) -> Self {
        let mut every = interval(EVERY);
        every.set_missed_tick_behavior(MissedTickBehavior::Delay);
        Self { body, presented, every }
    }
}

impl MessageBody for Guarded {
    type Error = Box<dyn std::error::Error>;

    fn size(&self) -> BodySize {
        self.body.size()
    }

    fn poll_next(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<actix_web::web::Bytes, Self::Error>>> {
        let this = self.get_mut();
        loop {
            if !this.presented.is_live(now()) {
                return Poll::Ready(Some(Err(io::Error::other("the token of this call no longer works").into())));
            }
            if let Poll::Ready(part) = Pin::new(&mut this.body).poll_next(cx) {
                return Poll::Ready(part);
            }
            ready!(this.every.poll_tick(cx));
        }
    }
}
