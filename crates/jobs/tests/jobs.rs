//! Jobs: they repeat, rest, are woken, try again after failures, stop and end.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
        mpsc,
    },
    time::{Duration, Instant},
};

use fenetre_jobs::{Backoff, Jobs, Next, Phase};

const LONG: Duration = Duration::from_secs(3_600);

fn until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(1));
    }
}

#[test]
fn a_job_steps_until_it_rests_and_wakes_again() {
    let jobs = Jobs::default();
    let count = Arc::new(AtomicU32::new(0));
    let counted = Arc::clone(&count);
    let step = move |_: &_| Ok::<_, String>(if counted.fetch_add(1, Ordering::SeqCst) % 3 == 2 { Next::Rest(LONG) } else { Next::Again });
    let handle = jobs.repeat("counter", Backoff::default(), step).unwrap();
    until("the first rest", || handle.figures().phase == Phase::Resting && handle.figures().steps == 3);
    handle.wake();
    until("the second rest", || handle.figures().steps == 6);
    let figures = handle.figures();
    assert_eq!((figures.name.as_str(), figures.failures, figures.last_error.is_none(), figures.next.is_some()), ("counter", 0, true, true));
    jobs.end();
    assert_eq!((count.load(Ordering::SeqCst), handle.figures().phase, jobs.figures().len()), (6, Phase::Ended, 0));
}

#[test]
fn a_failed_step_is_retried_with_backoff() {
    let backoff = Backoff { first: Duration::from_secs(10), most: Duration::from_secs(60) };
    let waits: Vec<u64> = (1..6).map(|failures| backoff.after(failures).as_secs()).collect();
    assert_eq!((waits, backoff.after(u32::MAX).as_secs()), (vec![10, 20, 40, 60, 60], 60));

    let jobs = Jobs::default();
    let mut left = 3;
    let step = move |_: &_| {
        left -= 1;
        if left >= 0 { Err(format!("{left} left")) } else { Ok(Next::End) }
    };
    let quick = Backoff { first: Duration::from_millis(1), most: Duration::from_millis(2) };
    let handle = jobs.repeat("failing", quick, step).unwrap();
    until("its end", || handle.is_finished());
    let figures = handle.figures();
    assert_eq!((figures.steps, figures.failures, figures.last_error.unwrap().0.as_str()), (1, 0, "0 left"));
}

#[test]
fn a_job_waiting_to_retry_says_so() {
    let jobs = Jobs::default();
    let handle = jobs.repeat("failing", Backoff { first: LONG, most: LONG }, |_| Err::<Next, _>("no disk")).unwrap();
    until("the failure", || handle.figures().phase == Phase::Retrying);
    let figures = handle.figures();
    assert_eq!((figures.failures, figures.last_error.unwrap().0.as_str()), (1, "no disk"));
    handle.wake();
    until("the next try", || handle.figures().failures == 2);
}

#[test]
fn one_job_is_stopped_without_the_others_and_all_end_in_order() {
    let jobs = Jobs::default();
    let (sender, receiver) = mpsc::channel();
    let job = |name: &'static str| {
        let sender = sender.clone();
        let work = move |job: &fenetre_jobs::Job| {
            while !job.is_stopping() {
                job.rest(LONG);
            }
            sender.send(name).map_err(|error| error.to_string())
        };
        jobs.run(name, work).unwrap()
    };
    let (_first, second, _third) = (job("first"), job("second"), job("third"));
    second.stop();
    assert_eq!(receiver.recv_timeout(Duration::from_secs(30)), Ok("second"));
    until("its end", || second.is_finished());
    let running: Vec<String> = jobs.figures().into_iter().map(|figures| figures.name).collect();
    assert_eq!(running, ["first", "third"]);
    jobs.end();
    let mut rest: Vec<&str> = receiver.try_iter().collect();
    rest.sort_unstable();
    assert_eq!(rest, ["first", "third"]);
    let late = jobs.repeat("late", Backoff::default(), |_| Ok::<_, String>(Next::Again)).unwrap();
    until("the end of one that began after the stop", || late.is_finished());
}
