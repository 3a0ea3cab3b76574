//! The destination of each kind of sink.

#[cfg(feature = "mqtt")]
use super::mqtt::Publisher;
#[cfg(feature = "sql")]
use super::sql::TableWriter;
use super::{definition::SinkDefinition, destination::Destination, files::FileWriter, forward::Forwarder, http::Poster};
use crate::error::FlowError;

/// The destination of a definition. `sink` is the name of the sink.
///
/// # Errors
/// [`FlowError::Kind`] if this build lacks the kind.
pub fn destination_of(sink: &str, definition: &SinkDefinition) -> Result<Box<dyn Destination>, FlowError> {
    Ok(match definition.clone() {
        SinkDefinition::Forward(forward) => Box::new(Forwarder::new(*forward)),
        SinkDefinition::Http(http) => Box::new(Poster::new(*http)),
        SinkDefinition::Files(files) => Box::new(FileWriter::new(sink.to_owned(), *files)?),
        #[cfg(feature = "sql")]
        SinkDefinition::Sql(sql) => Box::new(TableWriter::new(*sql)),
        #[cfg(feature = "mqtt")]
        SinkDefinition::Mqtt(mqtt) => Box::new(Publisher::new(sink, *mqtt)),
        #[cfg(not(all(feature = "sql", feature = "mqtt")))]
        other => return Err(FlowError::Kind(other.kind())),
    })
}
