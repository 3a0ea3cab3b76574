//! Tokens, sessions, and the record of changes.

pub use fenetre_core::token_limits::TokenLimits;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A token to create.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenOrder {
    /// Its name: letters, digits, `-`, `_`, `.` and `@`.
    pub name: String,
    /// Grants such as `read:velmar`, `write:plant-*` or `admin`.
    pub grants: Vec<String>,
    /// Only metrics that fit one of these names or patterns. Only with the grants `read` and `write`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub metrics: Vec<String>,
    /// Only from these networks, such as `192.0.2.0/24`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
    /// End of the token: a span from now, such as `90d`, or an instant (RFC 3339). Without it, the token does not expire.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<String>,
    /// Limits of its own.
    #[serde(default)]
    pub limits: TokenLimits,
}

/// A token without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenInfo {
    /// Its id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// Its grants.
    pub grants: Vec<String>,
    /// Only these metrics; all if empty.
    pub metrics: Vec<String>,
    /// Only from these networks; from all if empty.
    pub networks: Vec<String>,
    /// Limits of its own.
    pub limits: TokenLimits,
    /// State of it.
    pub state: TokenState,
    /// Time of its creation.
    pub created: String,
    /// End of the token.
    #[schema(required)]
    pub expires: Option<String>,
    /// Its last use, to the minute.
    #[schema(required)]
    pub last_used: Option<String>,
    /// Address of its last use.
    #[schema(required)]
    pub last_address: Option<String>,
    /// Calls that stored points.
    pub pushes: u64,
    /// Points that they stored.
    pub points: u64,
    /// Queries.
    pub queries: u64,
}

/// State of a token.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TokenState {
    /// It works.
    Active,
    /// Its time is over.
    Expired,
    /// It does not work until it is resumed.
    Suspended,
    /// It never works again.
    Revoked,
}

impl TokenState {
    /// Its name in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Expired => "expired",
            Self::Suspended => "suspended",
            Self::Revoked => "revoked",
        }
    }
}

/// A token with its secret, which is not shown again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CreatedToken {
    /// The token.
    pub token: TokenInfo,
    /// Its secret.
    pub secret: String,
    /// Grants on datasets that do not exist.
    #[serde(default)]
    #[schema(required)]
    pub notes: Vec<String>,
}

/// How a token is rotated.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RotateOrder {
    /// Time for which the old secret still works, such as `1d`. Without it, the old secret ends at once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub overlap: Option<String>,
}

/// The caller as the service sees it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallerInfo {
    /// Name of the token, or `this machine`.
    pub who: String,
    /// Way of recognition.
    pub kind: CallerKind,
    /// Grants.
    pub grants: Vec<String>,
    /// Only these metrics; all if empty.
    pub metrics: Vec<String>,
    /// Limits of the token.
    pub limits: TokenLimits,
    /// End of the token.
    #[schema(required)]
    pub expires: Option<String>,
    /// Address of the caller.
    #[schema(required)]
    pub address: Option<String>,
    /// Whether calls from the machine of the service need no token.
    pub is_open: bool,
}

/// Way of recognition.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum CallerKind {
    /// It calls from the machine of the service, without a token.
    Machine,
    /// By a token.
    Token,
    /// By a session of the console.
    Session,
}

/// A page of the record of changes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangePage {
    /// Changes, the latest first.
    pub items: Vec<ChangeInfo>,
    /// The value of `before` for the next page, if there is one.
    #[schema(required)]
    pub next: Option<i64>,
}

/// A change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChangeInfo {
    /// Its number.
    pub number: i64,
    /// Time of the change.
    pub time: String,
    /// Name of the token, `this machine`, `nobody` or `the service`.
    pub who: String,
    /// Id of the token.
    #[schema(required)]
    pub token: Option<String>,
    /// Address of the caller.
    #[schema(required)]
    pub address: Option<String>,
    /// Kind of what was changed, such as `metric`.
    pub subject: String,
    /// What was done, such as `defined`.
    pub act: String,
    /// Dataset that it belongs to.
    #[schema(required)]
    pub dataset: Option<String>,
    /// Its name.
    pub object: String,
    /// Value before.
    #[schema(required)]
    pub before: Option<serde_json::Value>,
    /// Value after.
    #[schema(required)]
    pub after: Option<serde_json::Value>,
}
