//! What tasks of a source report, until nothing more comes.

use std::time::{Duration, Instant};

use tokio::{sync::mpsc::Receiver, time::timeout};

/// Maximum duration of a round without reports; then the source checks whether to stop.
const IDLE: Duration = Duration::from_millis(250);
/// If nothing more comes for this time, the round ends.
const QUIET: Duration = Duration::from_millis(20);

/// Moves reports into an inbox of at most `most`. A trial waits up to its time until the inbox is complete.
pub async fn drain<T>(reports: &mut Receiver<T>, inbox: &mut Vec<T>, most: usize, trial: Option<Duration>, is_complete: impl Fn(&[T]) -> bool) {
    let begun = Instant::now();
    let longest = trial.unwrap_or(IDLE);
    while inbox.len() < most && !(trial.is_some() && is_complete(inbox)) {
        let wait = if inbox.is_empty() || trial.is_some() { longest.saturating_sub(begun.elapsed()) } else { QUIET };
        match timeout(wait, reports.recv()).await {
            Ok(Some(report)) => inbox.push(report),
            _ => break,
        }
    }
}

#[cfg(test)]
mod tests {
    use tokio::sync::mpsc::channel;

    use super::*;
    use crate::runtime::new_runtime;

    #[test]
    fn a_round_ends_when_nothing_more_comes_and_a_trial_when_all_is_there() {
        new_runtime().unwrap().block_on(async {
            let (sender, mut reports) = channel(10);
            let mut inbox = Vec::new();
            for number in 0..5 {
                sender.send(number).await.unwrap();
            }
            drain(&mut reports, &mut inbox, 3, None, |_| false).await;
            assert_eq!(inbox, [0, 1, 2]);
            drain(&mut reports, &mut inbox, 9, None, |_| false).await;
            assert_eq!(inbox, [0, 1, 2, 3, 4]);
            sender.send(5).await.unwrap();
            let begun = Instant::now();
            drain(&mut reports, &mut inbox, 9, Some(Duration::from_secs(60)), |inbox| inbox.len() == 6).await;
            assert!(inbox.len() == 6 && begun.elapsed() < Duration::from_secs(30));
        });
    }
}
