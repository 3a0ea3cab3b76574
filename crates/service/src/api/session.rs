//! The caller's identity, and its session in the console.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::{Action, Grant},
    registry::Presented,
};
use fenetre_core::time::format_utc;
use fenetre_wire::access::{CallerInfo, CallerKind};

use crate::{
    access::caller::{Caller, Identity},
    changes::Recorded,
    clock::now,
    permission::{Access, AnyGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking},
};

/// Returns who the caller is, and what it may do.
#[utoipa::path(security(("token" = [])), tag = "access", responses((status = 200, body = CallerInfo)))]
#[get("/api/v1/session")]
pub(crate) async fn show(caller: Access<AnyGrant>, state: AppState) -> web::Json<CallerInfo> {
    web::Json(info(&caller, &state))
}

/// Begins a session: signs in to the console.
///
/// The token is sent as `Authorization: Bearer TOKEN`. The answer sets a cookie that scripts cannot read, bound to the token.
/// It ends at sign-out, with the token, or after 12 hours without use.
#[utoipa::path(security(("token" = [])), tag = "access", responses((status = 201, body = CallerInfo), (status = 429, body = Problem, description = "too many sign-ins have failed")))]
#[post("/api/v1/session")]
pub(crate) async fn begin(state: AppState, request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let now = now();
    // The session is written to the disk, and a request cannot leave its thread: the token is looked up here, all else follows there.
    let signed = state.gate.sign_in(&request, now).inspect_err(|error| {
        let address = state.gate.peer(&request).ok().and_then(|peer| peer.address);
        state.gate.note_refusal(&request, None, address, error.status, &error.detail, now);
    })?;
    let own = signed.clone();
    let record = move |state: &State| {
        let cookie = state.gate.begin_session(&own, now)?;
        let name = own.caller.who().name().to_owned();
        Recorded::new(&own.caller, Subject::Session, Act::Begun, name).write(state, None, None)?;
        Ok(cookie)
    };
    let cookie = blocking(&state, record).await?;
    Ok(HttpResponse::Created().cookie(cookie).json(info(&signed.caller, &state)))
}

/// Ends the session of the caller: signs out of the console.
#[utoipa::path(security(("token" = [])), tag = "access", responses((status = 204)))]
#[delete("/api/v1/session")]
pub(crate) async fn end(caller: Access<AnyGrant>, state: AppState, request: HttpRequest) -> Result<HttpResponse, ApiError> {
    let cookie = state.gate.no_cookie(&request)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        state.gate.end_session(&caller)?;
        let name = caller.who().name().to_owned();
        Recorded::new(&caller, Subject::Session, Act::Ended, name).write(state, None, None)
    };
    blocking(&state, work).await?;
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

fn info(caller: &Caller, state: &State) -> CallerInfo {
    let (rights, token) = match &caller.identity {
        Identity::Machine => (None, None),
        Identity::Token(presented) => (caller.rights(), Some(&presented.holder().token)),
    };
    let everything = || vec![Grant::everywhere(Action::Admin).to_string()];
    CallerInfo {
        who: caller.who().name().to_owned(),
        kind: match &caller.identity {
            Identity::Machine => CallerKind::Machine,
            Identity::Token(Presented::Secret(_)) => CallerKind::Token,
            Identity::Token(Presented::Session(_)) => CallerKind::Session,
        },
        grants: rights.map_or_else(everything, |rights| rights.grants.iter().map(ToString::to_string).collect()),
        metrics: rights.map(|rights| rights.metrics.iter().map(ToString::to_string).collect()).unwrap_or_default(),
        limits: rights.map(|rights| rights.limits).unwrap_or_default(),
        expires: token.and_then(|token| token.expires).map(format_utc),
        address: caller.address.map(|address| address.to_string()),
        is_open: state.gate.is_open(),
    }
}
