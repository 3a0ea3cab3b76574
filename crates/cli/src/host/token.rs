//! `fenetre token … --store DIR`: tokens of a store on this machine, by the permissions of its files.

use std::path::Path;

use fenetre_access::{
    change::{Act, Change, Subject, Who},
    records::{FILE, Records},
    registry,
    token::TokenState,
};
use fenetre_service::api::tokens;
use fenetre_wire::access::{CreatedToken, TokenInfo};
use serde_json::Value;

use crate::{
    args::{ListOutput, TokenCommand},
    commands::token::{list, order, show_created, show_state},
    failure::{FAILED, Failure, WRONG},
};

/// Runs a command about tokens on the records of a store.
pub fn run(store: &Path, command: Option<TokenCommand>, output: ListOutput) -> Result<(), Failure> {
    if !store.join("catalogue.db").exists() && !store.join(FILE).exists() {
        let text = format!("{} is not a store: name the directory that `fenetre serve` uses; it is made at the first start", store.display());
        return Err(Failure::new(FAILED, text));
    }
    let records = Records::open(store)?;
    let now = fenetre_service::now();
    let record = |act: Act, object: &str, before: Option<Value>, after: Option<Value>| {
        let object = object.to_owned();
        let (who, address, subject, dataset) = (Who::Machine, None, Subject::Token, None);
        records.record(&Change { at: now, who, address, subject, act, dataset, object, before, after })
    };
    let info = |id: &str| -> Result<TokenInfo, Failure> {
        let uses = records.uses()?;
        let stored = records.tokens()?.into_iter().find(|stored| stored.token.id == id);
        let token = stored.ok_or_else(|| Failure::new(FAILED, "the token is gone"))?.token;
        Ok(tokens::describe(&token, uses.get(id).copied(), now))
    };
    let set_state = |name: &str, to: TokenState, act: Act| -> Result<(), Failure> {
        let token = registry::set_state(&records, name, to)?;
        record(act, &token.name, None, Some(to.as_str().into()))?;
        show_state(&info(&token.id)?)
    };
    match command.unwrap_or(TokenCommand::List { all: false }) {
        TokenCommand::List { all } => {
            let uses = records.uses()?;
            let infos = records.tokens()?.into_iter().map(|stored| tokens::describe(&stored.token, uses.get(&stored.token.id).copied(), now));
            list(infos.collect(), all, output)
        }
        command @ TokenCommand::Create { .. } => {
            let order = order(command);
            let (rights, expires) = tokens::rights_of(&order, now).map_err(|reason| Failure::new(WRONG, reason))?;
            let (token, secret) = registry::create(&records, &order.name, rights, expires, now)?;
            record(Act::Created, &token.name, None, serde_json::to_value(&token.rights).ok())?;
            show_created(&CreatedToken { token: info(&token.id)?, secret: secret.token_text(), notes: Vec::new() }, output)
        }
        TokenCommand::Rotate { name, overlap } => {
            let old_until = overlap.as_deref().map_or(Ok(now), |text| tokens::after(text, now)).map_err(|reason| Failure::new(WRONG, reason))?;
            let (token, secret) = registry::rotate(&records, &name, old_until)?;
            record(Act::Rotated, &token.name, None, None)?;
            show_created(&CreatedToken { token: info(&token.id)?, secret: secret.token_text(), notes: Vec::new() }, output)
        }
        TokenCommand::Suspend { name } => set_state(&name, TokenState::Suspended, Act::Suspended),
        TokenCommand::Resume { name } => set_state(&name, TokenState::Active, Act::Resumed),
        TokenCommand::Revoke { name } => set_state(&name, TokenState::Revoked, Act::Revoked),
    }
}

impl From<fenetre_access::AccessError> for Failure {
    fn from(error: fenetre_access::AccessError) -> Self {
        Self::new(FAILED, error.to_string())
    }
}
