//! What a call requires of its caller. Every handler takes an [`Access`]: the check is made before anything of the call is looked at.

use std::{
    future::{Ready, ready},
    marker::PhantomData,
    ops::Deref,
};

use actix_web::{FromRequest, HttpMessage, HttpRequest, dev::Payload, web};
use fenetre_access::grant::Action;

use crate::{access::caller::Caller, clock::now, problem::ApiError, state::State};

/// What a call requires.
pub trait Requirement: 'static {
    /// The grant, on the dataset of the path if it names one.
    const ACTION: Action;
    /// Where a grant must be held.
    const PLACE: Place = Place::Dataset;
}

/// Where a grant must be held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// On the dataset that the path names. Without one, on some dataset: the handler asks for each dataset that it touches.
    Dataset,
    /// The same, on all metrics of it.
    WholeDataset,
    /// On every dataset.
    Store,
    /// Anywhere, whatever it is: a caller that was recognised.
    Anybody,
}

macro_rules! requirements {
    ($($(#[$doc:meta])* $name:ident = $action:ident, $place:ident;)*) => {
        $(
            $(#[$doc])*
            pub struct $name;

            impl Requirement for $name {
                const ACTION: Action = Action::$action;
                const PLACE: Place = Place::$place;
            }
        )*

    };
}

requirements! {
    /// See metrics and points.
    ReadGrant = Read, Dataset;
    /// See all of a dataset.
    ReadAllGrant = Read, WholeDataset;
    /// See jobs, the volume and mappings.
    ReadStoreGrant = Read, Store;
    /// Push points.
    WriteGrant = Write, Dataset;
    /// Import files.
    ImportGrant = Write, WholeDataset;
    /// Change definitions and retention.
    DefineGrant = Define, WholeDataset;
    /// Change definitions that belong to no dataset.
    DefineStoreGrant = Define, Store;
    /// Rename a dataset.
    AdminDatasetGrant = Admin, WholeDataset;
    /// Manage the whole store.
    AdminGrant = Admin, Store;
    /// Any authenticated caller; the handler checks grants.
    AnyGrant = Read, Anybody;
}

/// Proof that the caller fulfils a requirement, and the caller.
pub struct Access<R>(Caller, PhantomData<R>);

impl<R> Access<R> {
    /// The caller.
    pub fn into_caller(self) -> Caller {
        self.0
    }
}

impl<R> Deref for Access<R> {
    type Target = Caller;

    fn deref(&self) -> &Caller {
        &self.0
    }
}

impl<R: Requirement> FromRequest for Access<R> {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(check(request, R::ACTION, R::PLACE).map(|caller| Self(caller, PhantomData)))
    }
}

fn check(request: &HttpRequest, action: Action, place: Place) -> Result<Caller, ApiError> {
    let state = request.app_data::<web::Data<State>>().ok_or_else(|| ApiError::internal(&"the service has no state"))?;
    let gate = &state.gate;
    let now = now();
    let caller = gate.recognise(request, now).inspect_err(|error| {
        let address = gate.peer(request).ok().and_then(|peer| peer.address);
        gate.note_refusal(request, None, address, error.status, &error.detail, now);
    })?;
    request.extensions_mut().insert(caller.clone());
    fulfils(request, state, &caller, action, place)
        .inspect_err(|error| {
            // An invisible dataset is not reported as a refusal, because it must look like a missing one.
            if error.status == 403 {
                gate.note_refusal(request, Some(caller.who()), caller.address, error.status, &error.detail, now);
            }
        })
        .map(|()| caller)
}

fn fulfils(request: &HttpRequest, state: &State, caller: &Caller, action: Action, place: Place) -> Result<(), ApiError> {
    match (place, request.match_info().get("dataset")) {
        (Place::Anybody, _) => return Ok(()),
        (Place::Store, _) => return caller.require_everywhere(action),
        (_, Some(dataset)) => state.store.with_catalogue(|catalogue| caller.require(action, catalogue, dataset).map(|_| ()))?,
        (_, None) if caller.rights().is_none_or(|rights| rights.grants.iter().any(|grant| grant.action.includes(action))) => {}
        (_, None) => return Err(caller.lacks(action.as_str())),
    }
    if place == Place::WholeDataset { caller.require_all_metrics() } else { Ok(()) }
}
