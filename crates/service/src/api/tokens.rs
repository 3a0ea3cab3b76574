//! Tokens: listed, created, rotated, suspended, resumed and revoked.

use actix_web::{HttpResponse, delete, get, post, web};
use fenetre_access::{
    AccessError,
    change::{Act, Subject},
    grant::Grant,
    records::Use,
    registry::Holder,
    token::{self, Rights, Token},
};
use fenetre_core::{
    catalogue::Catalogue,
    pattern::NamePattern,
    suggest::hint,
    time::{Nanos, Span, format_utc, parse_rfc3339},
};
use fenetre_wire::access::{CreatedToken, RotateOrder, TokenInfo, TokenOrder, TokenState};
use jiff::tz::TimeZone;
use serde_json::Value;

use crate::{
    access::caller::Caller,
    api::{Body, read_json},
    changes::Recorded,
    clock::now,
    permission::{Access, AdminGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
};

/// Lists the tokens without their secrets, by name. Revoked ones are listed too.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", responses((status = 200, body = [TokenInfo])))]
#[get("/api/v1/tokens")]
pub(crate) async fn list(_: Access<AdminGrant>, state: AppState) -> web::Json<Vec<TokenInfo>> {
    let now = now();
    web::Json(state.gate.registry.tokens().iter().map(|holder| info(holder, now)).collect())
}

/// Creates a token. The answer has its secret, which is shown only here.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", request_body = TokenOrder,
    responses((status = 201, body = CreatedToken), (status = 400, body = Problem), (status = 409, body = Problem, description = "there is one of that name")))]
#[post("/api/v1/tokens")]
pub(crate) async fn create(caller: Access<AdminGrant>, state: AppState, body: Body) -> Result<HttpResponse, ApiError> {
    let order: TokenOrder = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let (rights, expires) = rights_of(&order, now).map_err(|reason| ApiError::new(ProblemKind::Request, reason))?;
        let (token, secret) = state.gate.registry.create(&order.name, rights, expires, now)?;
        Recorded::new(&caller, Subject::Token, Act::Created, &token.name).write(state, None, Some(recorded(&token)?))?;
        let notes = state.store.with_catalogue(|catalogue| unknown_datasets(catalogue, &token.rights));
        Ok(CreatedToken { token: info_of(state, &token.id)?, secret: secret.token_text(), notes })
    };
    blocking(&state, work).await.map(|created| HttpResponse::Created().insert_header(("Cache-Control", "no-store")).json(created))
}

/// A note on each grant whose dataset does not exist: it holds from when there is one.
fn unknown_datasets(catalogue: &Catalogue, rights: &Rights) -> Vec<String> {
    let names = rights.grants.iter().filter_map(Grant::one_dataset).filter(|name| catalogue.dataset_by_any_name(name).is_none());
    let note = |name: &str| {
        let hint = hint(name, catalogue.datasets().map(|dataset| &*dataset.name), 5);
        format!("there is no dataset `{name}` yet: {hint}")
    };
    names.map(note).collect()
}

/// Gives a token a new secret. With `overlap`, the old one still works for that time.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", params(("token" = String, Path, description = "name or id")), request_body = Option<RotateOrder>,
    responses((status = 200, body = CreatedToken), (status = 400, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/tokens/{token}/rotate")]
pub(crate) async fn rotate(
    caller: Access<AdminGrant>,
    state: AppState,
    name: web::Path<String>,
    body: Body,
) -> Result<web::Json<CreatedToken>, ApiError> {
    let RotateOrder { overlap } = if body.is_empty() { RotateOrder::default() } else { read_json(&body)? };
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let old_until = overlap.as_deref().map_or(Ok(now), |text| after(text, now)).map_err(|reason| ApiError::new(ProblemKind::Request, reason))?;
        let (token, secret) = state.gate.registry.rotate(&name, old_until)?;
        let after = serde_json::json!({ "old_secret_until": format_utc(old_until) });
        Recorded::new(&caller, Subject::Token, Act::Rotated, &token.name).write(state, None, Some(after))?;
        Ok(CreatedToken { token: info_of(state, &token.id)?, secret: secret.token_text(), notes: Vec::new() })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Suspends a token: it does not work until it is resumed.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", params(("token" = String, Path, description = "name or id")),
    responses((status = 200, body = TokenInfo), (status = 404, body = Problem)))]
#[post("/api/v1/tokens/{token}/suspend")]
pub(crate) async fn suspend(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<TokenInfo>, ApiError> {
    set_state(caller.into_caller(), &state, name.into_inner(), token::TokenState::Suspended, Act::Suspended).await
}

/// Resumes a suspended token.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", params(("token" = String, Path, description = "name or id")),
    responses((status = 200, body = TokenInfo), (status = 404, body = Problem)))]
#[post("/api/v1/tokens/{token}/resume")]
pub(crate) async fn resume(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<TokenInfo>, ApiError> {
    set_state(caller.into_caller(), &state, name.into_inner(), token::TokenState::Active, Act::Resumed).await
}

/// Revokes a token. It never works again; what it has open ends within a second.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "access", params(("token" = String, Path, description = "name or id")),
    responses((status = 200, body = TokenInfo), (status = 404, body = Problem)))]
#[delete("/api/v1/tokens/{token}")]
pub(crate) async fn revoke(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<TokenInfo>, ApiError> {
    set_state(caller.into_caller(), &state, name.into_inner(), token::TokenState::Revoked, Act::Revoked).await
}

async fn set_state(caller: Caller, state: &AppState, name: String, to: token::TokenState, act: Act) -> Result<web::Json<TokenInfo>, ApiError> {
    let work = move |state: &State| {
        let before = state.gate.registry.token(&name)?.token.state;
        let token = state.gate.registry.set_state(&name, to)?;
        let word = |state: token::TokenState| Some(Value::from(state.as_str()));
        Recorded::new(&caller, Subject::Token, act, &token.name).write(state, word(before), word(to))?;
        info_of(state, &token.id)
    };
    blocking(state, work).await.map(web::Json)
}

/// The rights and the end that an order states.
///
/// # Errors
/// What is wrong with it, in a sentence.
pub fn rights_of(order: &TokenOrder, now: Nanos) -> Result<(Rights, Option<Nanos>), String> {
    let grants = order
        .grants
        .iter()
        .map(|text| text.parse())
        .collect::<Result<_, _>>()
        .map_err(|error: fenetre_access::grant::GrantError| error.to_string())?;
    let networks = order.networks.iter().map(|text| crate::config::network(text)).collect::<Result<_, _>>()?;
    let metrics = order.metrics.iter().map(NamePattern::new).collect();
    let expires = order.expires.as_deref().map(|text| after(text, now)).transpose()?;
    Ok((Rights { grants, metrics, networks, limits: order.limits }, expires))
}

/// An instant that is written as a span from now, or as itself.
///
/// # Errors
/// That it is neither, in a sentence.
pub fn after(text: &str, now: Nanos) -> Result<Nanos, String> {
    if let Ok(instant) = parse_rfc3339(text) {
        return Ok(instant);
    }
    let span = Span::parse(text).map_err(|_| format!("`{text}` is neither a span, such as 90d, nor an instant, such as 2027-01-31T00:00:00Z"))?;
    Ok(span.after(now, &TimeZone::UTC))
}

/// What the record of changes has of a token: everything but secrets, which are nowhere.
fn recorded(token: &Token) -> Result<Value, ApiError> {
    let mut value = serde_json::to_value(&token.rights).map_err(|error| ApiError::internal(&error))?;
    value["expires"] = token.expires.map(format_utc).into();
    Ok(value)
}

fn info_of(state: &State, id: &str) -> Result<TokenInfo, ApiError> {
    let all = state.gate.registry.tokens();
    let holder = all.iter().find(|holder| holder.token.id == id).ok_or_else(|| AccessError::NoToken { name: id.to_owned() })?;
    Ok(info(holder, now()))
}

fn info(holder: &Holder, now: Nanos) -> TokenInfo {
    describe(&holder.token, holder.tally.so_far(), now)
}

/// A token and its use, as answers have them.
pub fn describe(token: &Token, used: Option<Use>, now: Nanos) -> TokenInfo {
    let Token { id, name, rights, created, expires, state } = token;
    TokenInfo {
        id: id.clone(),
        name: name.clone(),
        grants: rights.grants.iter().map(ToString::to_string).collect(),
        metrics: rights.metrics.iter().map(ToString::to_string).collect(),
        networks: rights.networks.iter().map(ToString::to_string).collect(),
        limits: rights.limits,
        state: match state {
            token::TokenState::Revoked => TokenState::Revoked,
            _ if token.has_expired(now) => TokenState::Expired,
            token::TokenState::Suspended => TokenState::Suspended,
            token::TokenState::Active => TokenState::Active,
        },
        created: format_utc(*created),
        expires: expires.map(format_utc),
        last_used: used.map(|used| format_utc(used.last)),
        last_address: used.and_then(|used| used.address).map(|address| address.to_string()),
        pushes: used.map_or(0, |used| used.pushes),
        points: used.map_or(0, |used| used.points),
        queries: used.map_or(0, |used| used.queries),
    }
}
