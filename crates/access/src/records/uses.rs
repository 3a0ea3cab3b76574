//! Uses of tokens: when and from where last, and how often.

use std::{collections::HashMap, net::IpAddr};

use fenetre_core::time::Nanos;
use rusqlite::params;

use super::Records;
use crate::error::AccessError;

/// The use of a token.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Use {
    /// When it was last used.
    pub last: Nanos,
    /// From where.
    pub address: Option<IpAddr>,
    /// Calls that stored points.
    pub pushes: u64,
    /// Points that they stored.
    pub points: u64,
    /// Queries.
    pub queries: u64,
}

impl Records {
    /// The uses of all tokens, by id.
    ///
    /// # Errors
    /// If the file cannot be read, or a record is damaged.
    pub fn uses(&self) -> Result<HashMap<String, Use>, AccessError> {
        let rows = {
            let (connection, failed) = self.work("read");
            let mut query = connection.prepare_cached("SELECT token, last, address, pushes, points, queries FROM uses").map_err(&failed)?;
            let read = |row: &rusqlite::Row<'_>| {
                let (pushes, points, queries): (i64, i64, i64) = (row.get(3)?, row.get(4)?, row.get(5)?);
                let of = Use { last: row.get(1)?, address: None, pushes: pushes as u64, points: points as u64, queries: queries as u64 };
                Ok((row.get::<_, String>(0)?, row.get::<_, Option<String>>(2)?, of))
            };
            query.query_map([], read).and_then(Iterator::collect::<rusqlite::Result<Vec<_>>>).map_err(&failed)?
        };
        let parsed = |(token, address, of): (String, Option<String>, Use)| {
            let address =
                address.map(|text| text.parse()).transpose().map_err(|_| self.damaged(format!("the use of {token}"), "its address is none"))?;
            Ok((token, Use { address, ..of }))
        };
        rows.into_iter().map(parsed).collect()
    }

    /// Keeps uses, by id.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn keep_uses<'u>(&self, uses: impl IntoIterator<Item = (&'u str, Use)>) -> Result<(), AccessError> {
        let (mut connection, failed) = self.work("write");
        let write = || {
            let transaction = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            {
                let mut keep = transaction
                    .prepare_cached("INSERT OR REPLACE INTO uses (token, last, address, pushes, points, queries) VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?;
                for (token, of) in uses {
                    let address = of.address.map(|address| address.to_string());
                    keep.execute(params![token, of.last, address, of.pushes as i64, of.points as i64, of.queries as i64])?;
                }
            }
            transaction.commit()
        };
        write().map_err(failed)
    }
}
