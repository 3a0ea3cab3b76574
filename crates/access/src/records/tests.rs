use serde_json::json;

use super::*;
use crate::{
    change::{Act, Change, ChangeFilter, Subject, Who},
    secret::Secret,
    token::{Rights, Token, TokenState},
};

fn token(id: &str, name: &str) -> Token {
    let rights = Rights { grants: vec!["read:velmar".parse().unwrap()], ..Rights::default() };
    Token { id: id.to_owned(), name: name.to_owned(), rights, created: 5, expires: Some(99), state: TokenState::Active }
}

fn change(at: Nanos, who: Who, subject: Subject) -> Change {
    let (before, after) = (None, Some(json!({"unit": "cm"})));
    Change { at, who, address: Some("192.0.2.7".parse().unwrap()), subject, act: Act::Defined, dataset: None, object: "level".into(), before, after }
}

#[test]
fn tokens_are_kept_without_their_secrets() {
    let folder = tempfile::tempdir().unwrap();
    let (records, secret) = (Records::open(folder.path()).unwrap(), Secret::random().unwrap());
    records.add_token(&token("t1", "board"), secret.digest()).unwrap();
    let taken = records.add_token(&token("t2", "board"), Secret::random().unwrap().digest()).unwrap_err();
    assert_eq!(taken.to_string(), "there is a token `board` already: choose another name, rotate it, or revoke it first");
    records.set_token_state("t1", TokenState::Revoked).unwrap();
    records.add_token(&token("t2", "board"), Secret::random().unwrap().digest()).unwrap();
    let kept = records.tokens().unwrap();
    assert_eq!(kept.iter().map(|kept| (kept.token.id.as_str(), kept.token.state)).collect::<Vec<_>>().len(), 2);
    assert_eq!(kept[0].token, Token { state: TokenState::Revoked, ..token("t1", "board") });
    drop(records);
    let file = std::fs::read(folder.path().join(FILE)).unwrap();
    let text = secret.cookie_text();
    assert!(!file.windows(text.len()).any(|part| part == text.as_bytes()));
}

#[test]
fn another_process_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let (service, other) = (Records::open(folder.path()).unwrap(), Records::open(folder.path()).unwrap());
    let before = service.version().unwrap();
    service.add_token(&token("t1", "own"), Secret::random().unwrap().digest()).unwrap();
    assert_eq!(service.version().unwrap(), before);
    other.add_token(&token("t2", "other"), Secret::random().unwrap().digest()).unwrap();
    assert_ne!(service.version().unwrap(), before);
}

#[test]
fn changes_are_listed_from_the_latest_and_cannot_be_changed() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path()).unwrap();
    let board = Who::Token { id: "t1".into(), name: "board".into() };
    for (at, who, subject) in [(1, Who::Machine, Subject::Metric), (2, board.clone(), Subject::Retention), (3, board, Subject::Metric)] {
        records.record(&change(at, who, subject)).unwrap();
    }
    let found = |filter: ChangeFilter| records.changes(&filter).unwrap().into_iter().map(|(_, change)| change.at).collect::<Vec<_>>();
    let all = ChangeFilter { limit: 10, ..ChangeFilter::default() };
    assert_eq!(found(all.clone()), [3, 2, 1]);
    assert_eq!(found(ChangeFilter { limit: 1, ..all.clone() }), [3]);
    assert_eq!(found(ChangeFilter { who: Some("board".into()), subject: Some(Subject::Metric), ..all.clone() }), [3]);
    assert_eq!(found(ChangeFilter { since: Some(2), before: Some(3), ..all.clone() }), [2]);
    assert_eq!(records.changes(&all).unwrap()[2].1, change(1, Who::Machine, Subject::Metric));
    let changed = records.connection.lock().execute("UPDATE changes SET who = 'somebody'", []).unwrap_err();
    assert!(changed.to_string().contains("append-only"), "{changed}");
    records.prune(0, 3).unwrap();
    assert_eq!(found(all), [3]);
}

#[test]
fn uses_and_sessions_survive_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let of = Use { last: 7, address: Some("2001:db8::1".parse().unwrap()), pushes: 1, points: 1_000, queries: 2 };
    let session = StoredSession { digest: Secret::random().unwrap().digest(), token: "t1".into(), begun: 1, used: 7 };
    {
        let records = Records::open(folder.path()).unwrap();
        records.keep_uses([("t1", of)]).unwrap();
        records.keep_session(&session).unwrap();
    }
    let records = Records::open(folder.path()).unwrap();
    assert_eq!(records.uses().unwrap()["t1"], of);
    assert_eq!(records.sessions().unwrap(), std::slice::from_ref(&session));
    records.prune(8, 0).unwrap();
    assert!(records.sessions().unwrap().is_empty());
}

#[test]
fn damaged_records_are_errors() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path()).unwrap();
    records.add_token(&token("t1", "board"), Secret::random().unwrap().digest()).unwrap();
    records.record(&change(1, Who::Machine, Subject::Metric)).unwrap();
    let write = |sql: &str| records.connection.lock().execute_batch(sql).unwrap();
    write("UPDATE tokens SET rights = '{\"grants\":[\"fly\"]}'");
    let message = records.tokens().unwrap_err().to_string();
    assert!(message.contains("the record of the token `board`") && message.contains("unknown grant `fly`"), "{message}");
    write("INSERT INTO changes (at, who, subject, act, object) VALUES (2, 'this machine', 'weather', 'defined', 'x')");
    let message = records.changes(&ChangeFilter { limit: 9, ..ChangeFilter::default() }).unwrap_err().to_string();
    assert!(message.contains("change 2") && message.contains("its subject is unknown"), "{message}");
    drop(records);
    std::fs::write(folder.path().join(FILE), b"not a database, but long enough to be looked at").unwrap();
    let message = Records::open(folder.path()).err().unwrap().to_string();
    assert!(message.starts_with("cannot open") && message.contains("not a database"), "{message}");
}
