//! Calls about sources and sinks.

use fenetre_wire::{
    flows::{DefinedFlow, FlowEvent},
    sinks::{AsideBatch, SinkRange, SinkVerification},
};
use serde::de::DeserializeOwned;

use super::{Client, escaped};
use crate::failure::Failure;

const SINKS: &str = "/api/v1/sinks";

/// Whether a definition is of a source or of a sink.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flow {
    Source,
    Sink,
}

impl Flow {
    /// As in commands and messages.
    pub fn noun(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Sink => "sink",
        }
    }

    fn path(self) -> &'static str {
        match self {
            Self::Source => "/api/v1/sources",
            Self::Sink => SINKS,
        }
    }
}

impl Client {
    pub fn flows<T: DeserializeOwned>(&self, flow: Flow) -> Result<Vec<T>, Failure> {
        self.get(flow.path(), &[])
    }

    #[cfg(not(feature = "service"))]
    pub fn flow_examples(&self, flow: Flow) -> Result<Vec<fenetre_wire::flows::FlowExample>, Failure> {
        self.get(&format!("/api/v1/{}-examples", flow.noun()), &[])
    }

    pub fn flow<T: DeserializeOwned>(&self, flow: Flow, name: &str) -> Result<T, Failure> {
        self.get(&format!("{}/{}", flow.path(), escaped(name)), &[])
    }

    pub fn flow_events(&self, flow: Flow, name: &str) -> Result<Vec<FlowEvent>, Failure> {
        self.get(&format!("{}/{}/events", flow.path(), escaped(name)), &[])
    }

    /// Defines a source or a sink; with `dry_run`, only returns the differences.
    pub fn put_flow(&self, flow: Flow, name: &str, definition: &str, dry_run: bool) -> Result<DefinedFlow, Failure> {
        let path = format!("{}/{}?dry_run={dry_run}", flow.path(), escaped(name));
        let request = self.agent.put(format!("{}{path}", self.url)).header("Content-Type", "application/toml");
        Ok(self.read(request.send(definition), &path)?)
    }

    pub fn try_flow<T: DeserializeOwned>(&self, flow: Flow, definition: &str) -> Result<T, Failure> {
        let path = format!("{}/try", flow.path());
        let request = self.agent.post(format!("{}{path}", self.url)).header("Content-Type", "application/toml");
        Ok(self.read(request.send(definition), &path)?)
    }

    /// Changes a running source or sink. `change` is the last part of the call's path, such as `pause`.
    pub fn change_flow(&self, flow: Flow, name: &str, change: &str) -> Result<(), Failure> {
        self.post_for_nothing(&format!("{}/{}/{change}", flow.path(), escaped(name)), &())
    }

    pub fn remove_flow(&self, flow: Flow, name: &str) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("{}/{}", flow.path(), escaped(name)))
    }

    pub fn replay_sink(&self, name: &str, over: &str) -> Result<(), Failure> {
        self.post_for_nothing(&format!("{SINKS}/{}/replay", escaped(name)), &SinkRange { over: over.to_owned() })
    }

    pub fn verify_sink(&self, name: &str, over: &str) -> Result<SinkVerification, Failure> {
        self.post(&format!("{SINKS}/{}/verify", escaped(name)), &SinkRange { over: over.to_owned() })
    }

    pub fn aside(&self, sink: &str) -> Result<Vec<AsideBatch>, Failure> {
        self.get(&format!("{SINKS}/{}/aside", escaped(sink)), &[])
    }

    /// Copies the points of a batch that was set aside.
    pub fn aside_points(&self, sink: &str, id: u64, out: &mut dyn std::io::Write) -> Result<(), Failure> {
        self.stream(&format!("{SINKS}/{}/aside/{id}", escaped(sink)), &[], |body| std::io::copy(body, out).map(|_| ()))
    }

    pub fn remove_aside(&self, sink: &str, id: u64) -> Result<(), Failure> {
        self.delete_for_nothing(&format!("{SINKS}/{}/aside/{id}", escaped(sink)))
    }
}
