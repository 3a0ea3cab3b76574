//! What calls about sources and sinks have in common.

use actix_web::HttpResponse;
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::time::format_utc;
use fenetre_flows::{
    FlowError,
    definition::{
        Definition,
        document::{OfKind, parse},
    },
    events::Event,
    sinks::definition::SinkDefinition,
};
use fenetre_wire::flows::{DefinedFlow, FlowDifference, FlowEvent, FlowExample};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    changes::Recorded,
    problem::{ApiError, ProblemKind},
    state::{AppState, State, blocking},
};

/// How to define a source or a sink.
#[derive(Clone, Copy, Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct DefineHow {
    /// Return the differences, and change nothing.
    #[serde(default)]
    pub dry_run: bool,
}

/// The definition of a source or a sink.
pub(crate) trait FlowDefinition: OfKind + Serialize + Send + 'static {
    /// In the record of changes.
    const SUBJECT: Subject;

    /// The definition that runs under a name.
    ///
    /// # Errors
    /// If there is none.
    fn running(state: &State, name: &str) -> Result<Self, FlowError>;

    /// The dataset of its points.
    fn dataset(&self) -> &str;

    /// What it would change under a name.
    ///
    /// # Errors
    /// If the name is invalid, or the stored definition cannot be read.
    fn compare(&self, state: &State, name: &str) -> Result<FlowDifference, FlowError>;

    /// Stores it under a name, and starts it.
    ///
    /// # Errors
    /// If it cannot be stored or started.
    fn put(self, state: &State, name: &str) -> Result<FlowDifference, FlowError>;
}

impl FlowDefinition for Definition {
    const SUBJECT: Subject = Subject::Source;

    fn running(state: &State, name: &str) -> Result<Self, FlowError> {
        state.sources.status(name).map(|status| status.definition)
    }

    fn dataset(&self) -> &str {
        self.dataset()
    }

    fn compare(&self, state: &State, name: &str) -> Result<FlowDifference, FlowError> {
        state.sources.compare(name, self)
    }

    fn put(self, state: &State, name: &str) -> Result<FlowDifference, FlowError> {
        state.sources.put(name, self)
    }
}

impl FlowDefinition for SinkDefinition {
    const SUBJECT: Subject = Subject::Sink;

    fn running(state: &State, name: &str) -> Result<Self, FlowError> {
        state.sinks.definition(name)
    }

    fn dataset(&self) -> &str {
        self.dataset()
    }

    fn compare(&self, state: &State, name: &str) -> Result<FlowDifference, FlowError> {
        state.sinks.compare(name, self)
    }

    fn put(self, state: &State, name: &str) -> Result<FlowDifference, FlowError> {
        state.sinks.put(name, self)
    }
}

/// Reads the definition in a body.
pub(crate) fn definition_of<D: FlowDefinition>(body: &[u8]) -> Result<D, ApiError> {
    let text = std::str::from_utf8(body).map_err(|_| ApiError::new(ProblemKind::Request, "the definition is not UTF-8"))?;
    Ok(parse(text, "definition")?)
}

/// Compares a definition with the stored one; unless it is a dry run, stores it and records the change.
pub(crate) fn define<D: FlowDefinition>(state: &State, caller: &Caller, name: &str, how: DefineHow, definition: D) -> Result<DefinedFlow, ApiError> {
    let difference = definition.compare(state, name)?;
    let before = json_of::<D>(state, name)?;
    let after = serde_json::to_value(&definition).map_err(|error| ApiError::internal(&error))?;
    if !how.dry_run && difference != FlowDifference::None {
        let recorded = Recorded::new(caller, D::SUBJECT, Act::Defined, name).of(definition.dataset());
        definition.put(state, name)?;
        recorded.write(state, before.clone(), json_of::<D>(state, name)?)?;
    }
    Ok(DefinedFlow { difference, before, after })
}

/// Changes a running source or sink, and records it.
pub(crate) async fn change<D: FlowDefinition>(
    caller: Caller,
    state: &AppState,
    name: String,
    act: Act,
    work: impl FnOnce(&State, &str) -> Result<(), FlowError> + Send + 'static,
) -> Result<HttpResponse, ApiError> {
    let work = move |state: &State| {
        let definition = D::running(state, &name).map_err(|error| missing(&error))?;
        let recorded = Recorded::new(&caller, D::SUBJECT, act, &name).of(definition.dataset());
        recorded.around(state, |state| json_of::<D>(state, &name), |state| Ok(work(state, &name)?))
    };
    blocking(state, work).await.map(|()| HttpResponse::NoContent().finish())
}

/// A running definition as JSON, for the record of changes.
fn json_of<D: FlowDefinition>(state: &State, name: &str) -> Result<Option<Value>, ApiError> {
    D::running(state, name).ok().map(serde_json::to_value).transpose().map_err(|error| ApiError::internal(&error))
}

/// Checks that a caller may see a source or a sink, and returns its definition.
pub(crate) fn seen<D: FlowDefinition>(state: &State, caller: &Caller, name: &str) -> Result<D, ApiError> {
    match D::running(state, name) {
        Ok(definition) if may_see(state, caller, definition.dataset()) => Ok(definition),
        // Only a caller that sees everything gets a hint.
        Err(error) if caller.may_everywhere(Action::Read) => Err(missing(&error)),
        _ => {
            let noun = D::SUBJECT.as_str();
            Err(ApiError::new(ProblemKind::NotFound, format!("there is no {noun} `{name}`: `fenetre {noun} list` shows them")))
        }
    }
}

/// Whether a caller may see a source or a sink of a dataset.
pub(crate) fn may_see(state: &State, caller: &Caller, dataset: &str) -> bool {
    state.store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset_by_any_name(dataset);
        // If the dataset has been removed, only callers that may read all datasets see its sources and sinks.
        dataset.map_or_else(|| caller.may_everywhere(Action::Read), |dataset| caller.may(Action::Read, catalogue, dataset))
    })
}

pub(crate) fn missing(error: &FlowError) -> ApiError {
    ApiError::new(ProblemKind::NotFound, error.to_string())
}

/// Examples of definitions, with their kinds.
pub(crate) fn examples(all: impl Iterator<Item = (&'static str, &'static str)>) -> Vec<FlowExample> {
    all.map(|(kind, definition)| FlowExample { kind: kind.to_owned(), definition: definition.to_owned() }).collect()
}

/// The events of a log.
pub(crate) fn events(all: Vec<Event>) -> Vec<FlowEvent> {
    let event =
        |Event { first, last, count, is_failure, text }| FlowEvent { first: format_utc(first), last: format_utc(last), count, is_failure, text };
    all.into_iter().map(event).collect()
}
