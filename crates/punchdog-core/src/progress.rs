//! Progress and stopping come from outside: the core has neither a terminal nor a signal handler.

/// Watches long work, and may ask it to stop.
pub trait Watch: Sync {
    /// Units of work done against all units, under a short name such as `reading folders`.
    fn at(&self, work: &str, done: u64, of: u64);
    /// True when the work should stop at the next safe point.
    fn stop(&self) -> bool {
        false
    }
}

/// Watches nothing and never stops.
pub struct Silent;

impl Watch for Silent {
    fn at(&self, _work: &str, _done: u64, _of: u64) {}
}
