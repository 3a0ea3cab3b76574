//! `fenetre tls self-signed`

use fenetre_service::tls::{certificate::fingerprint, self_signed};

use crate::{
    args::SelfSignedArgs,
    failure::{FAILED, Failure, WRONG},
};

/// Writes a certificate and its key, and shows how they are used.
pub fn self_signed(args: &SelfSignedArgs) -> Result<(), Failure> {
    let SelfSignedArgs { names, days, certificate, key } = args;
    for file in [certificate, key] {
        if file.exists() {
            return Err(Failure::new(WRONG, format!("{} exists: remove it, or choose another file with --certificate and --key", file.display())));
        }
    }
    self_signed::write(names, *days, certificate, key).map_err(|error| Failure::new(FAILED, error.to_string()))?;
    let digest = fingerprint(certificate).map_err(|error| Failure::new(FAILED, error.to_string()))?;
    let (certificate, key) = (certificate.display(), key.display());
    outln!("{certificate} and {key}, for {}, valid for {days} days", names.join(", "));
    outln!("fingerprint {digest}");
    noteln!("in the configuration, under [listen]: certificate = \"{certificate}\" and key = \"{key}\"");
    noteln!("clients trust it with --ca {certificate}, or with --fingerprint");
    Ok(())
}
