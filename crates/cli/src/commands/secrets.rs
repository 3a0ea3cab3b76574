//! `fenetre secret`: secrets of the store.

use fenetre_wire::secrets::SecretInfo;

use crate::{
    args::{ListOutput, SecretArgs, SecretCommand},
    client::Client,
    failure::Failure,
    output::{
        list::{Column, write},
        words::minute,
    },
    typed::typed_secret,
};

/// Runs a command about secrets.
pub fn run(args: SecretArgs) -> Result<(), Failure> {
    let client = Client::of(&args.service)?;
    match args.command.unwrap_or(SecretCommand::List) {
        SecretCommand::List => {
            let secrets = client.secrets()?;
            write(&secrets, &columns(), args.output)?;
            if secrets.is_empty() && args.output == ListOutput::Table {
                noteln!("set one with `fenetre secret set NAME`");
            }
            Ok(())
        }
        SecretCommand::Set { name } => {
            let is_new = client.put_secret(&name, &typed_secret("secret")?)?.created;
            let done = if is_new { "is set" } else { "is replaced" };
            outln!("secret {name} {done}: a source or a sink refers to it as {{ kept = \"{name}\" }}");
            Ok(())
        }
        SecretCommand::Remove { name } => client.remove_secret(&name).map(|()| outln!("secret {name} is removed")),
    }
}

fn columns() -> Vec<Column<SecretInfo>> {
    let plain = |name, plain| Column { name, right: false, text: plain, plain };
    vec![
        plain("secret", |secret: &SecretInfo| secret.name.clone()),
        Column { name: "set (UTC)", right: false, text: |secret| minute(Some(&secret.set_at)), plain: |secret| secret.set_at.clone() },
        plain("used by", |secret: &SecretInfo| secret.used_by.join(", ")),
    ]
}
