//! The pace of requests: never more than a service permits, and hardly fewer.

use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Gives each request a moment of its own, evenly spaced, whichever thread asks.
pub struct Pace {
    between: Duration,
    next: Mutex<Instant>,
}

impl Pace {
    /// So many requests a second.
    pub fn new(per_second: f64) -> Pace {
        Pace { between: Duration::from_secs_f64(1.0 / per_second), next: Mutex::new(Instant::now()) }
    }

    /// The moment of the next request, counted from `now`.
    fn slot(&self, now: Instant) -> Instant {
        let mut next = self.next.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let slot = (*next).max(now);
        *next = slot + self.between;
        slot
    }

    /// Waits for the next moment; false where `is_cancelled` came first.
    pub fn wait(&self, is_cancelled: &dyn Fn() -> bool) -> bool {
        let slot = self.slot(Instant::now());
        sleep_until(slot, is_cancelled)
    }

    /// No request before a time has passed: the service said so.
    pub fn hold(&self, time: Duration) {
        let mut next = self.next.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        *next = (*next).max(Instant::now() + time);
    }
}

/// Sleeps in short naps, so that cancelling is noticed; false where it was.
pub fn sleep_until(moment: Instant, is_cancelled: &dyn Fn() -> bool) -> bool {
    loop {
        if is_cancelled() {
            return false;
        }
        let left = moment.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return true;
        }
        std::thread::sleep(left.min(Duration::from_millis(50)));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_are_evenly_spaced_and_a_pause_is_not_caught_up() {
        let pace = Pace::new(4.0);
        let now = Instant::now() + Duration::from_secs(60);
        let quarter = Duration::from_millis(250);
        assert_eq!(pace.slot(now), now);
        assert_eq!(pace.slot(now), now + quarter);
        assert_eq!(pace.slot(now + quarter * 2), now + quarter * 2);
        let later = now + Duration::from_secs(9);
        assert_eq!((pace.slot(later), pace.slot(later)), (later, later + quarter), "no burst after a pause");
    }
}
