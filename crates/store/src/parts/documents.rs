//! Documents of the catalogue.

use fenetre_core::time::Nanos;

use crate::{
    catalogue::documents::{Document, DocumentKind, Kept},
    engine::Engine,
    error::StoreError,
};

/// Documents of the catalogue.
#[derive(Clone, Copy)]
pub struct Documents<'s> {
    pub(crate) engine: &'s Engine,
}

impl Documents<'_> {
    /// Documents of a kind, by name.
    ///
    /// # Errors
    /// [`StoreError::Record`] for one that cannot be read.
    pub fn all<D: Document>(&self) -> Result<Vec<Kept<D>>, StoreError> {
        self.engine.definitions.documents()
    }

    /// Names of the documents of a kind, whether they can be read or not.
    ///
    /// # Errors
    /// If the catalogue cannot be read.
    pub fn names(&self, kind: DocumentKind) -> Result<Vec<String>, StoreError> {
        self.engine.definitions.document_names(kind)
    }

    /// A document by its name.
    ///
    /// # Errors
    /// [`StoreError::Record`] if it cannot be read.
    pub fn get<D: Document>(&self, name: &str) -> Result<Option<Kept<D>>, StoreError> {
        self.engine.definitions.document(name)
    }

    /// Keeps a document under its name.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn put<D: Document>(&self, name: &str, body: &D, changed: Nanos) -> Result<(), StoreError> {
        self.engine.definitions.put_document(name, body, changed)
    }

    /// Removes a document; returns whether there was one.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn remove<D: Document>(&self, name: &str) -> Result<bool, StoreError> {
        self.engine.definitions.remove_document::<D>(name)
    }
}
