//! The destination of each kind of sink.

use super::{definition::SinkDefinition, destination::Destination, files::FileWriter, forward::Forwarder, http::Poster};

/// The destination of a definition. `sink` is the name of the sink.
pub fn destination_of(sink: &str, definition: &SinkDefinition) -> Box<dyn Destination> {
    match definition.clone() {
        SinkDefinition::Forward(forward) => Box::new(Forwarder::new(*forward)),
        SinkDefinition::Http(http) => Box::new(Poster::new(*http)),
        SinkDefinition::Files(files) => Box::new(FileWriter::new(sink.to_owned(), *files)),
    }
}
