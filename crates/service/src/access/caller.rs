//! A caller: its identity and its grants. Every decision about a grant is made here.

use std::net::IpAddr;

use fenetre_access::{change::Who, grant::Action, registry::Presented, token::Rights};
use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    suggest::hint,
    time::{Nanos, SECOND},
    token_limits::TokenLimits,
    visibility::{Visibility, VisibleCatalogue},
};

use crate::{
    clock::steady,
    config::CallLimits,
    problem::{ApiError, ProblemKind},
};

/// Who calls, from where.
#[derive(Clone, Debug)]
pub struct Caller {
    /// How it was recognised.
    pub identity: Identity,
    /// Its address, unless a proxy hides it.
    pub address: Option<IpAddr>,
}

/// How a caller was recognised.
#[derive(Clone, Debug)]
pub enum Identity {
    /// It calls from the machine of the service, which needs no token, and may do everything.
    Machine,
    /// By a token, or by a session that is bound to one.
    Token(Presented),
}

impl Caller {
    /// Who this is, for the record of changes.
    pub fn who(&self) -> Who {
        match &self.identity {
            Identity::Machine => Who::Machine,
            Identity::Token(presented) => {
                let token = &presented.holder().token;
                Who::Token { id: token.id.clone(), name: token.name.clone() }
            }
        }
    }

    /// Name of its token, if it has one.
    pub fn token_name(&self) -> Option<String> {
        match &self.identity {
            Identity::Machine => None,
            Identity::Token(presented) => Some(presented.holder().token.name.clone()),
        }
    }

    /// Whether the caller is on the machine of the service, and may read its log.
    pub fn is_machine(&self) -> bool {
        matches!(self.identity, Identity::Machine)
    }

    /// Rights of the token; none for a caller that needs no token.
    pub fn rights(&self) -> Option<&Rights> {
        match &self.identity {
            Identity::Machine => None,
            Identity::Token(presented) => Some(&presented.holder().token.rights),
        }
    }

    /// What a caller with read access may see.
    pub fn visibility(&self) -> Visibility {
        self.rights().map_or_else(Visibility::everything, |rights| rights.visibility(Action::Read))
    }

    /// What exists for this caller: datasets on which it may do anything.
    pub fn known(&self) -> Visibility {
        self.rights().map_or_else(Visibility::everything, Rights::known)
    }

    /// Whether it may do something to a dataset.
    pub fn may(&self, action: Action, catalogue: &Catalogue, dataset: &Dataset) -> bool {
        let Some(rights) = self.rights() else { return true };
        let old = catalogue.old_names().filter(|(_, name)| **name == *dataset.name).map(|(old, _)| old);
        let names: Vec<&str> = std::iter::once(&*dataset.name).chain(old).collect();
        rights.allow(action, names.iter().copied())
    }

    /// Whether it may do something to a dataset of a name that no dataset has yet.
    pub fn may_as_new(&self, action: Action, name: &str) -> bool {
        self.rights().is_none_or(|rights| rights.allow(action, [name]))
    }

    /// Whether it may do something to every dataset, and to the store as a whole.
    pub fn may_everywhere(&self, action: Action) -> bool {
        self.rights().is_none_or(|rights| rights.allow_everywhere(action))
    }

    /// The dataset of a name, if the caller may do something to it.
    ///
    /// # Errors
    /// [`ProblemKind::NoDataset`] without any grant, exactly as for a missing dataset; [`ProblemKind::Access`] with too small a grant.
    pub fn require<'c>(&self, action: Action, catalogue: &'c Catalogue, name: &str) -> Result<&'c Dataset, ApiError> {
        let known = self.known();
        let visible = VisibleCatalogue::new(catalogue, &known);
        let found = catalogue.dataset_by_any_name(name).filter(|dataset| visible.has(dataset));
        let dataset = found.ok_or_else(|| {
            let hint = hint(name, visible.datasets().map(|dataset| &*dataset.name), 10);
            ApiError::new(ProblemKind::NoDataset, format!("there is no dataset `{name}`: {hint}"))
        })?;
        if self.may(action, catalogue, dataset) { Ok(dataset) } else { Err(self.lacks(&format!("{}:{}", action.as_str(), dataset.name))) }
    }

    /// Requires a grant on every dataset.
    ///
    /// # Errors
    /// [`ProblemKind::Access`].
    pub fn require_everywhere(&self, action: Action) -> Result<(), ApiError> {
        if self.may_everywhere(action) { Ok(()) } else { Err(self.lacks(&format!("{} on all datasets", action.as_str()))) }
    }

    /// Requires that the token is not limited to some metrics.
    ///
    /// # Errors
    /// [`ProblemKind::Access`].
    pub fn require_all_metrics(&self) -> Result<(), ApiError> {
        if self.rights().is_none_or(|rights| rights.metrics.is_empty()) {
            return Ok(());
        }
        Err(ApiError::new(ProblemKind::Access, "this call concerns all metrics of a dataset, and the token is limited to some of them"))
    }

    /// A refusal that names the grant that is missing.
    pub fn lacks(&self, grant: &str) -> ApiError {
        let has = self.rights().map_or_else(String::new, |rights| rights.grants.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "));
        ApiError::new(ProblemKind::Access, format!("this needs the grant {grant}; the token `{}` has {has}", self.who().name()))
    }

    /// Limits of a call: those of the service, and those of the token.
    pub fn limits(&self, of_service: &CallLimits) -> CallLimits {
        let mut limits = *of_service;
        let Some(rights) = self.rights() else { return limits };
        let lower =
            |slot: &mut usize, own: Option<u64>| *slot = (*slot).min(own.map_or(usize::MAX, |own| usize::try_from(own).unwrap_or(usize::MAX)));
        let TokenLimits { query_seconds, query_series, query_points, .. } = rights.limits;
        limits.max_query_seconds = limits.max_query_seconds.min(query_seconds.unwrap_or(u64::MAX));
        lower(&mut limits.query.series, query_series);
        lower(&mut limits.query.decoded, query_points);
        lower(&mut limits.query.points, query_points);
        limits
    }

    /// Whether points may be pushed now.
    ///
    /// # Errors
    /// [`ProblemKind::Rate`], with the time to wait.
    pub fn check_point_rate(&self) -> Result<(), ApiError> {
        let Identity::Token(presented) = &self.identity else { return Ok(()) };
        let holder = presented.holder();
        let Some(limit) = holder.token.rights.limits.points_per_second else { return Ok(()) };
        holder.points.check(limit, steady()).map_err(|wait| too_fast(&format!("{limit} points per second"), &holder.token.name, wait))
    }

    /// Counts points that were stored.
    pub fn count_points(&self, points: u64) {
        let Identity::Token(presented) = &self.identity else { return };
        let holder = presented.holder();
        holder.tally.count_points(points);
        if let Some(limit) = holder.token.rights.limits.points_per_second {
            holder.points.charge(limit, points, steady());
        }
    }

    /// Counts a query, if it may be asked now.
    ///
    /// # Errors
    /// [`ProblemKind::Rate`], with the time to wait.
    pub fn count_query(&self) -> Result<(), ApiError> {
        let Identity::Token(presented) = &self.identity else { return Ok(()) };
        let holder = presented.holder();
        if let Some(limit) = holder.token.rights.limits.queries_per_second {
            holder.queries.check(limit, steady()).map_err(|wait| too_fast(&format!("{limit} queries per second"), &holder.token.name, wait))?;
            holder.queries.charge(limit, 1, steady());
        }
        holder.tally.count_query();
        Ok(())
    }
}

/// A refusal of too many calls, with the seconds to wait.
pub fn too_fast(limit: &str, token: &str, wait: Nanos) -> ApiError {
    let seconds = seconds_of(wait);
    let text = format!("the token `{token}` is limited to {limit}: nothing was done; try again in {seconds} s");
    ApiError::new(ProblemKind::Rate, text).retry_after(seconds)
}

/// Whole seconds, rounded up.
pub fn seconds_of(wait: Nanos) -> u32 {
    u32::try_from(wait.div_euclid(SECOND) + i64::from(wait.rem_euclid(SECOND) > 0)).unwrap_or(u32::MAX).max(1)
}
