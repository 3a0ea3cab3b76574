//! Tokens.

use fenetre_core::time::Nanos;
use rusqlite::{ErrorCode, Row, params};

use super::Records;
use crate::{
    error::AccessError,
    secret::Digest,
    token::{Token, TokenState},
};

/// A token with the digests of its secrets.
#[derive(Clone, Debug)]
pub struct StoredToken {
    /// The token.
    pub token: Token,
    /// Of its secret.
    pub digest: Digest,
    /// Of the secret before, and until when that works.
    pub old: Option<(Digest, Nanos)>,
}

impl Records {
    /// All tokens, the revoked ones too, by name and age.
    ///
    /// # Errors
    /// If the file cannot be read, or a record is damaged.
    pub fn tokens(&self) -> Result<Vec<StoredToken>, AccessError> {
        let rows = {
            let (connection, failed) = self.work("read");
            let mut query = connection
                .prepare_cached("SELECT id, name, rights, created, expires, state, digest, old_digest, old_until FROM tokens ORDER BY name, created")
                .map_err(&failed)?;
            query.query_map([], RawToken::read).and_then(Iterator::collect::<rusqlite::Result<Vec<_>>>).map_err(&failed)?
        };
        rows.into_iter().map(|raw| self.parsed(raw)).collect()
    }

    /// Keeps a new token.
    ///
    /// # Errors
    /// [`AccessError::NameTaken`], or if the file cannot be written.
    pub fn add_token(&self, token: &Token, digest: Digest) -> Result<(), AccessError> {
        let rights = serde_json::to_string(&token.rights).map_err(|error| AccessError::Invalid(error.to_string()))?;
        let (connection, failed) = self.work("write");
        let added = connection.execute(
            "INSERT INTO tokens (id, name, rights, created, expires, state, digest) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![token.id, token.name, rights, token.created, token.expires, token.state.as_str(), digest.0],
        );
        match added {
            Ok(_) => Ok(()),
            Err(error) if error.sqlite_error_code() == Some(ErrorCode::ConstraintViolation) => {
                Err(AccessError::NameTaken { name: token.name.clone() })
            }
            Err(error) => Err(failed(error)),
        }
    }

    /// Gives a token a new secret. The old secret works until `old_until`.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn rotate_token(&self, id: &str, digest: Digest, old_until: Nanos) -> Result<(), AccessError> {
        let (connection, failed) = self.work("write");
        connection
            .execute("UPDATE tokens SET old_digest = digest, old_until = ?3, digest = ?2 WHERE id = ?1", params![id, digest.0, old_until])
            .map(|_| ())
            .map_err(failed)
    }

    /// Changes the state of a token. If it no longer works, its sessions end.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn set_token_state(&self, id: &str, state: TokenState) -> Result<(), AccessError> {
        let (mut connection, failed) = self.work("write");
        let write = |connection: &mut rusqlite::Connection| {
            let transaction = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            transaction.execute("UPDATE tokens SET state = ?2 WHERE id = ?1", params![id, state.as_str()])?;
            if state != TokenState::Active {
                transaction.execute("DELETE FROM sessions WHERE token = ?1", [id])?;
            }
            transaction.commit()
        };
        write(&mut connection).map_err(failed)
    }

    fn parsed(&self, raw: RawToken) -> Result<StoredToken, AccessError> {
        let what = || format!("the token `{}`", raw.name);
        let rights = serde_json::from_str(&raw.rights).map_err(|error| self.damaged(what(), error.to_string()))?;
        let state = TokenState::from_word(&raw.state).ok_or_else(|| self.damaged(what(), format!("unknown state `{}`", raw.state)))?;
        let token = Token { rights, state, created: raw.created, expires: raw.expires, name: raw.name.clone(), id: raw.id.clone() };
        Ok(StoredToken { token, digest: Digest(raw.digest), old: raw.old_digest.map(Digest).zip(raw.old_until) })
    }
}

struct RawToken {
    id: String,
    name: String,
    rights: String,
    created: Nanos,
    expires: Option<Nanos>,
    state: String,
    digest: [u8; 32],
    old_digest: Option<[u8; 32]>,
    old_until: Option<Nanos>,
}

impl RawToken {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            id: row.get(0)?,
            name: row.get(1)?,
            rights: row.get(2)?,
            created: row.get(3)?,
            expires: row.get(4)?,
            state: row.get(5)?,
            digest: row.get(6)?,
            old_digest: row.get(7)?,
            old_until: row.get(8)?,
        })
    }
}
