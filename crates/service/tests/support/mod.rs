//! The service in this process, on a loopback port and a store of its own, and ways to call it over HTTP.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{fs, path::Path, sync::mpsc, thread};

use fenetre_service::{Config, Ready, ServeError, serve};

#[path = "../../../../e2e/support/http.rs"]
mod http;

#[allow(unused_imports, reason = "every test file uses a part of this")]
pub use http::{Answer, Api, agent, an_hour_of_levels, problems};

/// A running service. It stops when this is dropped.
pub struct Service {
    pub url: String,
    ready: Option<Ready>,
    thread: Option<thread::JoinHandle<Result<(), ServeError>>>,
    /// The store goes with the service, where the test did not bring one.
    _folder: Option<tempfile::TempDir>,
}

impl Service {
    /// Serves an empty store with the default settings.
    pub fn start() -> Self {
        let folder = tempfile::tempdir().expect("there is room for a folder");
        let mut service = Self::on(folder.path());
        service._folder = Some(folder);
        service
    }

    /// Serves the store in a folder, with the default settings.
    pub fn on(folder: &Path) -> Self {
        let mut config = Config { own_every: None, store: folder.join("store"), log_level: "error".to_owned(), ..Config::default() };
        config.listen_on("127.0.0.1:0").expect("a loopback address");
        Self::serve(config)
    }

    /// Serves with the settings of a configuration file, which is written into a folder.
    pub fn configured(folder: &Path, text: &str) -> Self {
        let file = folder.join("fenetre.toml");
        fs::write(&file, text).expect("the folder can be written");
        let config = Config::read(&file).expect("the configuration is right");
        // What the service stores itself would appear in lists, at any moment.
        let own_every = config.own_every.filter(|_| text.contains("[own]"));
        Self::serve(Config { own_every, ..config })
    }

    fn serve(config: Config) -> Self {
        let (sender, receiver) = mpsc::channel();
        let thread = thread::spawn(move || serve(&config, |ready| drop(sender.send(ready))));
        let ready = receiver.recv().expect("the service starts");
        Self { url: format!("http://{}", ready.address), ready: Some(ready), thread: Some(thread), _folder: None }
    }

    /// Stops it, and waits until it has.
    pub fn stop(mut self) {
        self.end();
    }

    fn end(&mut self) {
        if let Some(ready) = self.ready.take() {
            ready.stop();
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

impl Api for Service {
    fn url(&self) -> &str {
        &self.url
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.end();
    }
}
