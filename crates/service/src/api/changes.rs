//! The record of changes.

use actix_web::{get, web};
use fenetre_access::{
    change::{Change, ChangeFilter, Subject},
    grant::Action,
};
use fenetre_core::{
    suggest::hint,
    time::{Nanos, Span, format_utc, parse_rfc3339},
};
use fenetre_wire::access::{ChangeInfo, ChangePage};
use jiff::tz::TimeZone;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    clock::now,
    permission::{Access, DefineGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
};

/// Which changes.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct Asked {
    /// Only changes by this token, by its name, or by `this machine`.
    who: Option<String>,
    /// Only changes of this kind of thing, such as `metric` or `token`.
    what: Option<String>,
    /// Only changes since then: a span before now, such as `7d`, or an instant (RFC 3339).
    since: Option<String>,
    /// Only changes before this number: the value of `next` of the page before.
    before: Option<i64>,
    /// Maximum number of changes (default: 100; at most 1,000).
    limit: Option<usize>,
}

const DEFAULT_PAGE: usize = 100;
const MAX_PAGE: usize = 1_000;

/// Lists changes, the latest first: who changed what, from where, and what it was before.
///
/// A caller that may define some datasets sees their changes; an administrator sees all of them, with tokens, sign-ins and refused calls.
#[utoipa::path(security(("token" = ["define"])), tag = "access", params(Asked), responses((status = 200, body = ChangePage), (status = 400, body = Problem)))]
#[get("/api/v1/changes")]
pub(crate) async fn list(caller: Access<DefineGrant>, state: AppState, asked: web::Query<Asked>) -> Result<web::Json<ChangePage>, ApiError> {
    let caller = caller.into_caller();
    blocking(&state, move |state| page(state, &caller, asked.into_inner())).await.map(web::Json)
}

fn page(state: &State, caller: &Caller, asked: Asked) -> Result<ChangePage, ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    let subject = asked.what.map(|word| {
        let unknown = || fault(format!("unknown kind `{word}`: {}", hint(&word, Subject::ALL.iter().map(|subject| subject.as_str()), 20)));
        Subject::from_word(&word).ok_or_else(unknown)
    });
    let since = asked.since.as_deref().map(|text| instant(text, now()).map_err(fault)).transpose()?;
    let limit = asked.limit.unwrap_or(DEFAULT_PAGE).clamp(1, MAX_PAGE);
    let mut filter = ChangeFilter { who: asked.who, subject: subject.transpose()?, since, before: asked.before, limit };
    let mut page = ChangePage { items: Vec::new(), next: None };
    // Rows that may not be seen are skipped, so a page is filled from several reads.
    loop {
        let rows = state.gate.registry.records().changes(&filter)?;
        let is_last = rows.len() < limit;
        for (number, change) in rows {
            filter.before = Some(number);
            if may_see(state, caller, &change) {
                page.items.push(info(number, change));
                if page.items.len() == limit {
                    page.next = Some(number);
                    return Ok(page);
                }
            }
        }
        if is_last {
            return Ok(page);
        }
    }
}

fn may_see(state: &State, caller: &Caller, change: &Change) -> bool {
    caller.may_everywhere(Action::Admin)
        || change.dataset.as_deref().is_some_and(|name| {
            state
                .store
                .with_catalogue(|catalogue| catalogue.dataset_by_any_name(name).is_some_and(|dataset| caller.may(Action::Define, catalogue, dataset)))
        })
}

/// An instant that is written as a span before now, or as itself.
fn instant(text: &str, now: Nanos) -> Result<Nanos, String> {
    if let Ok(instant) = parse_rfc3339(text) {
        return Ok(instant);
    }
    let span = Span::parse(text).map_err(|_| format!("`{text}` is neither a span, such as 7d, nor an instant, such as 2026-11-01T00:00:00Z"))?;
    Ok(span.before(now, &TimeZone::UTC))
}

fn info(number: i64, change: Change) -> ChangeInfo {
    ChangeInfo {
        number,
        time: format_utc(change.at),
        who: change.who.name().to_owned(),
        token: change.who.token_id().map(str::to_owned),
        address: change.address.map(|address| address.to_string()),
        subject: change.subject.as_str().to_owned(),
        act: change.act.as_str().to_owned(),
        dataset: change.dataset,
        object: change.object,
        before: change.before,
        after: change.after,
    }
}
