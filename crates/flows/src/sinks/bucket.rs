//! Objects of an S3-compatible store. An object is complete before it is visible, because it is put with one call.

use std::{fs, time::Duration};

use fenetre_store::Secrets;
use object_store::{
    Certificate, ClientOptions, ObjectStoreExt, RetryConfig,
    aws::{AmazonS3, AmazonS3Builder},
    path::Path,
};
use tokio::runtime::Runtime;

use super::definition::{FilePlace, Files};
use crate::{definition::duration, error::FlowError, runtime::new_runtime};

const DEFAULT_TIMEOUT: Duration = Duration::from_secs(30);
const DEFAULT_REGION: &str = "us-east-1";

/// A bucket.
pub struct Bucket {
    runtime: Runtime,
    store: AmazonS3,
    /// The secret of the access key, with which the store was opened.
    secret: String,
    /// Name of the bucket, for people.
    name: String,
}

impl Bucket {
    /// Opens the bucket of a definition, or takes the one from before if the secret is still the same.
    ///
    /// # Errors
    /// If a secret or a certificate cannot be read.
    pub fn open(before: Option<Self>, files: &Files, secrets: &Secrets) -> Result<Self, FlowError> {
        let secret = files.secret_key.as_ref().map_or_else(|| Ok(String::new()), |secret| secret.read(secrets))?;
        if let Some(before) = before.filter(|before| before.secret == secret) {
            return Ok(before);
        }
        let FilePlace::Bucket { bucket, .. } = files.place().map_err(FlowError::Definition)? else {
            return Err(FlowError::Definition("path: it is no part of an object store".to_owned()));
        };
        let name = files.endpoint.as_ref().map_or_else(|| format!("s3://{bucket}"), |endpoint| format!("{endpoint} {bucket}"));
        let fault = |error: &object_store::Error| FlowError::Peer(format!("{name}: {error}"));
        let mut options = ClientOptions::new().with_timeout(files.timeout.map_or(DEFAULT_TIMEOUT, duration)).with_user_agent(
            // The name of the program is enough.
            "fenetre".parse().map_err(|_| FlowError::Definition("the name of the client is invalid".to_owned()))?,
        );
        if files.endpoint.as_ref().is_some_and(|endpoint| endpoint.starts_with("http://")) {
            options = options.with_allow_http(true);
        }
        if let Some(ca) = &files.ca {
            let unreadable = |reason: String| FlowError::File { action: "read the certificates", path: ca.display().to_string(), reason };
            let pem = fs::read(ca).map_err(|error| unreadable(error.to_string()))?;
            for certificate in Certificate::from_pem_bundle(&pem).map_err(|error| unreadable(error.to_string()))? {
                options = options.with_root_certificate(certificate);
            }
        }
        // The library takes the cryptography of the process, and panics without one.
        let _is_there_already = rustls::crypto::ring::default_provider().install_default().is_err();
        let mut builder = AmazonS3Builder::new()
            .with_bucket_name(&bucket)
            .with_region(files.region.as_deref().unwrap_or(DEFAULT_REGION))
            .with_access_key_id(files.access_key.as_deref().unwrap_or_default())
            .with_secret_access_key(&secret)
            // The sink itself tries again.
            .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
            .with_client_options(options);
        if let Some(endpoint) = &files.endpoint {
            builder = builder.with_endpoint(endpoint.trim_end_matches('/'));
        }
        let store = builder.build().map_err(|error| fault(&error))?;
        Ok(Self { runtime: new_runtime()?, store, secret, name })
    }

    /// Puts an object.
    ///
    /// # Errors
    /// [`FlowError::Peer`], with a remedy.
    pub fn put(&self, key: &str, bytes: Vec<u8>) -> Result<(), FlowError> {
        let put = self.runtime.block_on(self.store.put(&Path::from(key), bytes.into()));
        put.map(|_| ()).map_err(|error| self.fault(&error))
    }

    /// Removes an object.
    ///
    /// # Errors
    /// [`FlowError::Peer`], with a remedy.
    pub fn remove(&self, key: &str) -> Result<(), FlowError> {
        self.runtime.block_on(self.store.delete(&Path::from(key))).map_err(|error| self.fault(&error))
    }

    fn fault(&self, error: &object_store::Error) -> FlowError {
        let remedy = match error {
            object_store::Error::NotFound { .. } => "there is no such bucket: create it, or check `path` and `endpoint`".to_owned(),
            object_store::Error::PermissionDenied { .. } | object_store::Error::Unauthenticated { .. } => {
                "access denied: check `access_key`, `secret_key` and `region`, and the permission to put objects".to_owned()
            }
            other => innermost(other),
        };
        FlowError::Peer(format!("{}: {remedy}", self.name))
    }
}

/// The innermost cause of an error.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}
