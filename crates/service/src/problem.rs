//! Every failure as problem details (RFC 9457): what is wrong, where, and what to do.

use std::{fmt, ops::Deref};

use actix_web::{HttpResponse, ResponseError, http::StatusCode};
use fenetre_access::AccessError;
use fenetre_core::{evaluate::EvaluateError, plan::PlanError, query::QueryError};
use fenetre_flows::FlowError;
use fenetre_formats::FormatError;
use fenetre_store::StoreError;
pub use fenetre_wire::problem::{Problem, ProblemPlace};
use fenetre_wire::push::PushReport;

/// The sorts of problems.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ProblemKind {
    /// The call itself is wrong.
    Request,
    /// There is no credential that works.
    Token,
    /// The caller may not.
    Access,
    /// More calls or points than the caller may send.
    Rate,
    /// It is not there.
    NotFound,
    /// There is no dataset of that name.
    NoDataset,
    /// The path exists, but not with this method.
    Method,
    /// The body is of another type than those that can be read.
    MediaType,
    /// The body is too large.
    TooLarge,
    /// No point of the body was kept.
    Rejected,
    /// The query is wrong.
    Query,
    /// The query goes past a bound.
    Bound,
    /// It took too long.
    TimedOut,
    /// A definition contradicts existing points.
    Definition,
    /// The caller stopped sending in the middle.
    Stalled,
    /// Less at a time would do.
    Behind,
    /// Later would do.
    Busy,
    /// The disk is full.
    Full,
    /// A fault of the service or its files.
    Internal,
}

impl ProblemKind {
    fn describe(self) -> (StatusCode, &'static str, &'static str) {
        match self {
            Self::Request => (StatusCode::BAD_REQUEST, "request", "The request is invalid"),
            Self::Token => (StatusCode::UNAUTHORIZED, "token", "A valid token is needed"),
            Self::Rate => (StatusCode::TOO_MANY_REQUESTS, "rate", "Too much at a time"),
            Self::Access => (StatusCode::FORBIDDEN, "access", "Access denied"),
            Self::NotFound => (StatusCode::NOT_FOUND, "not-found", "Not found"),
            Self::NoDataset => (StatusCode::NOT_FOUND, "no-dataset", "There is no such dataset"),
            Self::Method => (StatusCode::METHOD_NOT_ALLOWED, "method", "The method is not supported"),
            Self::MediaType => (StatusCode::UNSUPPORTED_MEDIA_TYPE, "media-type", "The content type is not supported"),
            Self::TooLarge => (StatusCode::PAYLOAD_TOO_LARGE, "too-large", "The body is too large"),
            Self::Rejected => (StatusCode::UNPROCESSABLE_ENTITY, "rejected", "No point was stored"),
            Self::Query => (StatusCode::BAD_REQUEST, "query", "The query is invalid"),
            Self::Bound => (StatusCode::UNPROCESSABLE_ENTITY, "bound", "The query exceeds a limit"),
            Self::TimedOut => (StatusCode::GATEWAY_TIMEOUT, "timed-out", "The query took too long"),
            Self::Definition => (StatusCode::CONFLICT, "definition", "The definition is not possible"),
            Self::Stalled => (StatusCode::REQUEST_TIMEOUT, "stalled", "The body did not arrive in time"),
            Self::Behind => (StatusCode::TOO_MANY_REQUESTS, "behind", "The service is behind"),
            Self::Busy => (StatusCode::SERVICE_UNAVAILABLE, "busy", "The service is busy"),
            Self::Full => (StatusCode::INSUFFICIENT_STORAGE, "full", "The disk is full"),
            Self::Internal => (StatusCode::INTERNAL_SERVER_ERROR, "internal", "The service failed"),
        }
    }
}

/// Why a request fails: the problem details that its response is made of.
#[derive(Clone, Debug)]
pub struct ApiError {
    problem: Box<Problem>,
    /// Seconds to wait, where that is known.
    retry_after: Option<u32>,
    /// The error of a credential (RFC 6750, section 3.1), if there was a credential.
    challenge: Option<&'static str>,
}

impl ApiError {
    /// An error of a kind.
    pub fn new(kind: ProblemKind, detail: impl Into<String>) -> Self {
        let (status, word, title) = kind.describe();
        let problem = Problem {
            kind: format!("urn:fenetre:problem:{word}"),
            title: title.to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            place: None,
            help: None,
            report: None,
            request: None,
        };
        Self { problem: Box::new(problem), retry_after: None, challenge: None }
    }

    /// The same, with the seconds to wait.
    pub fn retry_after(self, seconds: u32) -> Self {
        Self { retry_after: Some(seconds), ..self }
    }

    /// The same, with the error of a credential that was sent.
    pub fn with_challenge(self, error: &'static str) -> Self {
        Self { challenge: Some(error), ..self }
    }

    /// The same, for a request of an id. Only callers that may read the log see the reason of an internal error.
    pub fn of_request(mut self, id: &str, may_read_log: bool) -> Self {
        if self.status == StatusCode::INTERNAL_SERVER_ERROR.as_u16() && !may_read_log {
            self.problem.detail = format!("the service failed: its log has the reason under the request {id}");
        }
        self.problem.request = Some(id.to_owned());
        self
    }

    /// The same, with what became of the points of a body.
    pub fn with_report(mut self, report: PushReport) -> Self {
        self.problem.report = Some(Box::new(report));
        self
    }

    /// An error in the text of a query or of its frame.
    pub fn of_query(error: &QueryError, which: &str, text: &str) -> Self {
        let (line, column) = error.line_and_column(text);
        let place =
            ProblemPlace { text: which.to_owned(), start: error.place.start, end: error.place.end, line, column, drawing: error.render(text) };
        let mut failed = Self::new(ProblemKind::Query, error.message.clone());
        (failed.problem.place, failed.problem.help) = (Some(Box::new(place)), error.help.clone());
        failed
    }

    /// A query that cannot be planned.
    pub fn of_plan(error: &PlanError, query: &str, frame: &str) -> Self {
        match error {
            PlanError::Query(error) => Self::of_query(error, "query", query),
            PlanError::Frame(error) => Self::of_query(error, "frame", frame),
            PlanError::NoFrame => Self::new(ProblemKind::Query, error.to_string()),
            PlanError::NoDataset { .. } => Self::new(ProblemKind::NoDataset, error.to_string()),
            PlanError::Bound(_) => Self::new(ProblemKind::Bound, error.to_string()),
        }
    }

    /// A fault of the service.
    pub fn internal(error: &dyn fmt::Display) -> Self {
        Self::new(ProblemKind::Internal, error.to_string())
    }

    /// Its details.
    pub fn into_problem(self) -> Problem {
        *self.problem
    }
}

impl Deref for ApiError {
    type Target = Problem;

    fn deref(&self) -> &Problem {
        &self.problem
    }
}

impl fmt::Display for ApiError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.problem.fmt(f)
    }
}

impl std::error::Error for ApiError {}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status_code());
        if [StatusCode::SERVICE_UNAVAILABLE, StatusCode::TOO_MANY_REQUESTS].contains(&self.status_code()) {
            response.insert_header(("Retry-After", self.retry_after.unwrap_or(1).to_string()));
        }
        if self.status_code() == StatusCode::UNAUTHORIZED {
            let error = self.challenge.map_or_else(String::new, |error| format!(", error=\"{error}\""));
            response.insert_header(("WWW-Authenticate", format!("Bearer realm=\"fenetre\"{error}")));
        }
        // Details are texts and numbers, which always have a JSON form.
        response.content_type("application/problem+json").body(serde_json::to_string(&*self.problem).unwrap_or_default())
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        let sort = match &error {
            StoreError::NoDataset { .. } => ProblemKind::NoDataset,
            StoreError::Missing(_) => ProblemKind::NotFound,
            StoreError::Definition(_) | StoreError::Backup(_) => ProblemKind::Definition,
            StoreError::Full { .. } | StoreError::Reserve { .. } => ProblemKind::Full,
            StoreError::Busy { .. } => ProblemKind::Behind,
            StoreError::Closed(_) | StoreError::ReadOnly { .. } | StoreError::Stopped => ProblemKind::Busy,
            _ => return Self::internal(&error),
        };
        Self::new(sort, error.to_string())
    }
}

impl From<AccessError> for ApiError {
    fn from(error: AccessError) -> Self {
        let kind = match &error {
            AccessError::NoToken { .. } => ProblemKind::NotFound,
            AccessError::NameTaken { .. } => ProblemKind::Definition,
            AccessError::Invalid(_) => ProblemKind::Request,
            AccessError::File { .. } | AccessError::Version { .. } | AccessError::Damaged { .. } | AccessError::Random(_) => {
                return Self::internal(&error);
            }
        };
        Self::new(kind, error.to_string())
    }
}

impl From<FlowError> for ApiError {
    fn from(error: FlowError) -> Self {
        match error {
            FlowError::Store(error) => error.into(),
            FlowError::Format(error) => error.into(),
            FlowError::TooSlow | FlowError::Stopped => Self::new(ProblemKind::Busy, error.to_string()),
            FlowError::Definition(_) | FlowError::Secret(_) | FlowError::Kind(_) => Self::new(ProblemKind::Request, error.to_string()),
            FlowError::Peer(_) | FlowError::Silent(_) | FlowError::File { .. } => Self::new(ProblemKind::Definition, error.to_string()),
        }
    }
}

impl From<FormatError> for ApiError {
    fn from(error: FormatError) -> Self {
        let sort = if matches!(error, FormatError::TooLarge { .. }) { ProblemKind::TooLarge } else { ProblemKind::Request };
        Self::new(sort, error.to_string())
    }
}

impl From<EvaluateError> for ApiError {
    fn from(error: EvaluateError) -> Self {
        match error {
            EvaluateError::TooManyPoints { .. } | EvaluateError::TooManyDecoded { .. } | EvaluateError::TooManyHeld { .. } => {
                Self::new(ProblemKind::Bound, error.to_string())
            }
            EvaluateError::Stopped => {
                Self::new(ProblemKind::TimedOut, "the query ran into its time limit: ask for a shorter time, wider windows or fewer series")
            }
            EvaluateError::Source(error) => match error.downcast::<StoreError>() {
                Ok(error) => Self::from(*error),
                Err(error) => Self::internal(&error),
            },
        }
    }
}
