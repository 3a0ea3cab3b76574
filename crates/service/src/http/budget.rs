//! Memory that calls share: a bound over all of them, which no single call's limit can give.

use std::sync::{
    Arc,
    atomic::{AtomicUsize, Ordering},
};

/// Bytes that may be held at once.
#[derive(Clone, Debug)]
pub struct Budget {
    held: Arc<AtomicUsize>,
    most: usize,
}

/// A share of a budget, given back when it is dropped.
#[derive(Debug)]
pub struct Share {
    budget: Budget,
    bytes: usize,
}

impl Budget {
    pub fn new(most: usize) -> Self {
        Self { held: Arc::default(), most }
    }

    /// A share of nothing, which can grow.
    pub fn share(&self) -> Share {
        Share { budget: self.clone(), bytes: 0 }
    }
}

impl Share {
    /// Reserves more, if that is available.
    pub fn grow(&mut self, bytes: usize) -> bool {
        let Budget { held, most } = &self.budget;
        let grown = held.fetch_update(Ordering::AcqRel, Ordering::Acquire, |held| held.checked_add(bytes).filter(|sum| sum <= most));
        if grown.is_ok() {
            self.bytes += bytes;
        }
        grown.is_ok()
    }

    /// Takes up to so much more, as much as is left of it; says how much.
    pub fn grow_up_to(&mut self, bytes: usize) -> usize {
        let left = self.budget.most.saturating_sub(self.budget.held.load(Ordering::Acquire)).min(bytes);
        if self.grow(left) { left } else { 0 }
    }

    /// Gives back all but so much.
    pub fn shrink_to(&mut self, bytes: usize) {
        let back = self.bytes.saturating_sub(bytes);
        self.bytes -= back;
        self.budget.held.fetch_sub(back, Ordering::AcqRel);
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        self.shrink_to(0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_never_exceed_the_budget_and_come_back() {
        let budget = Budget::new(10);
        let (mut a, mut b) = (budget.share(), budget.share());
        assert!(a.grow(6) && !b.grow(5) && b.grow(3));
        assert_eq!(b.grow_up_to(100), 1);
        assert_eq!(b.grow_up_to(100), 0);
        a.shrink_to(2);
        assert!(b.grow(4) && !b.grow(1));
        drop(b);
        assert!(a.grow(8));
    }
}
