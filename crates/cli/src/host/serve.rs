//! `fenetre serve`

use fenetre_service::{Config, ServeError, config::ConfigError, serve};

use crate::{
    args::ServeArgs,
    failure::{FAILED, Failure, WRONG},
};

/// Runs the service until it is stopped.
pub fn run(args: &ServeArgs) -> Result<(), Failure> {
    let mut config = match &args.config {
        Some(file) => Config::read(file)?,
        None => Config::default(),
    };
    if let Some(store) = &args.store {
        config.store.clone_from(store);
    }
    if let Some(address) = &args.listen {
        config.listen_on(address)?;
    }
    if let Some(every) = &args.own {
        config.watch_itself(every)?;
    }
    let store = config.store.display().to_string();
    serve(&config, |ready| {
        let scheme = if ready.is_secure { "https" } else { "http" };
        noteln!("Fenetre serves {store} at {scheme}://{} (stop with Ctrl-C)", ready.address);
    })?;
    Ok(())
}

impl From<ConfigError> for Failure {
    fn from(error: ConfigError) -> Self {
        Self::new(WRONG, error.to_string())
    }
}

impl From<ServeError> for Failure {
    fn from(error: ServeError) -> Self {
        Self::new(FAILED, error.to_string())
    }
}
