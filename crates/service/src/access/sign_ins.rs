//! Failed sign-ins are slowed down, per address.

use std::{collections::HashMap, net::IpAddr};

use fenetre_core::time::{Nanos, SECOND};
use parking_lot::Mutex;

/// Failures that cost nothing: people mistype.
const FREE: u32 = 5;
/// The longest wait.
const MAX_WAIT: Nanos = 300 * SECOND;
/// Failures are forgotten after this.
const FORGOTTEN: Nanos = 900 * SECOND;
/// Addresses that are remembered.
const MAX_ADDRESSES: usize = 10_000;

/// Failed sign-ins by address.
#[derive(Default)]
pub struct SignIns(Mutex<HashMap<Option<IpAddr>, Failures>>);

#[derive(Clone, Copy)]
struct Failures {
    count: u32,
    last: Nanos,
}

impl Failures {
    fn wait(self, now: Nanos) -> Nanos {
        let doubled = self.count.checked_sub(FREE).map_or(0, |more| SECOND.saturating_mul(1 << more.min(20)).min(MAX_WAIT));
        self.last.saturating_add(doubled).saturating_sub(now)
    }
}

impl SignIns {
    /// Whether an address may try now; else the nanoseconds that it has to wait.
    ///
    /// # Errors
    /// The wait.
    pub fn check(&self, address: Option<IpAddr>, now: Nanos) -> Result<(), Nanos> {
        let known = self.0.lock().get(&address).copied();
        match known.map_or(0, |failures| failures.wait(now)) {
            wait if wait > 0 => Err(wait),
            _ => Ok(()),
        }
    }

    /// Counts a failure.
    pub fn failed(&self, address: Option<IpAddr>, now: Nanos) {
        let mut known = self.0.lock();
        if known.len() >= MAX_ADDRESSES {
            known.retain(|_, failures| now - failures.last < FORGOTTEN);
        }
        if known.len() >= MAX_ADDRESSES && !known.contains_key(&address) {
            return;
        }
        let failures = known.entry(address).or_insert(Failures { count: 0, last: now });
        let count = if now - failures.last < FORGOTTEN { failures.count + 1 } else { 1 };
        *failures = Failures { count, last: now };
    }

    /// Forgets the failures of an address.
    pub fn succeeded(&self, address: Option<IpAddr>) {
        self.0.lock().remove(&address);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guessing_becomes_slower_for_its_address_only() {
        let (sign_ins, address) = (SignIns::default(), Some("192.0.2.7".parse().unwrap()));
        for _ in 0..FREE {
            assert_eq!(sign_ins.check(address, 0), Ok(()));
            sign_ins.failed(address, 0);
        }
        assert_eq!(sign_ins.check(address, 0), Err(SECOND));
        for _ in 0..20 {
            sign_ins.failed(address, 0);
        }
        assert_eq!(sign_ins.check(address, 0), Err(MAX_WAIT));
        assert_eq!((sign_ins.check(address, MAX_WAIT), sign_ins.check(None, 0)), (Ok(()), Ok(())));
        sign_ins.succeeded(address);
        assert_eq!(sign_ins.check(address, 0), Ok(()));
    }
}
