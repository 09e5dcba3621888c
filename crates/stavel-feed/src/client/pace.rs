//! The pace of requests: never more than a service permits, and hardly fewer.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Requests come to the service a little earlier or later than they are sent: of what it permits, so much is asked for.
const SHARE: f64 = 0.97;
/// So much longer than a second is the time in which no more than permitted are sent.
const MARGIN: Duration = Duration::from_millis(15);

/// Gives each request a moment of its own, evenly spaced, whichever thread asks. A thread that comes late to its moment does
/// not crowd the second it comes in.
pub struct Pace {
    between: Duration,
    /// Whole requests in a second; at least one.
    in_a_second: usize,
    state: Mutex<PaceState>,
}

struct PaceState {
    next: Instant,
    /// When the last requests were sent: as many as a second may have.
    sent: VecDeque<Instant>,
}

impl Pace {
    /// So many requests a second.
    pub fn new(per_second: f64) -> Pace {
        let state = PaceState { next: Instant::now(), sent: VecDeque::new() };
        Pace {
            between: Duration::from_secs_f64(1.0 / (per_second * SHARE)),
            in_a_second: (per_second as usize).max(1),
            state: Mutex::new(state),
        }
    }

    fn state(&self) -> MutexGuard<'_, PaceState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The moment of the next request, counted from `now`.
    fn slot(&self, now: Instant) -> Instant {
        let mut state = self.state();
        let slot = state.next.max(now);
        state.next = slot + self.between;
        slot
    }

    /// Sends a request now, or gives the moment at which it may be.
    fn send(&self, now: Instant) -> Result<(), Instant> {
        let mut state = self.state();
        while state.sent.len() >= self.in_a_second {
            let free = state.sent[0] + Duration::from_secs(1) + MARGIN;
            if free > now {
                return Err(free);
            }
            state.sent.pop_front();
        }
        state.sent.push_back(now);
        Ok(())
    }

    /// Waits for the next moment; false where `is_cancelled` came first.
    pub fn wait(&self, is_cancelled: &dyn Fn() -> bool) -> bool {
        let mut moment = self.slot(Instant::now());
        loop {
            if !sleep_until(moment, is_cancelled) {
                return false;
            }
            match self.send(Instant::now()) {
                Ok(()) => return true,
                Err(later) => moment = later,
            }
        }
    }

    /// No request before a time has passed: the service said so.
    pub fn hold(&self, time: Duration) {
        let mut state = self.state();
        state.next = state.next.max(Instant::now() + time);
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
        let pace = Pace::new(4.0 / SHARE);
        let now = Instant::now() + Duration::from_secs(60);
        let quarter = Duration::from_millis(250);
        assert_eq!(pace.slot(now), now);
        assert_eq!(pace.slot(now), now + quarter);
        assert_eq!(pace.slot(now + quarter * 2), now + quarter * 2);
        let later = now + Duration::from_secs(9);
        assert_eq!((pace.slot(later), pace.slot(later)), (later, later + quarter), "no burst after a pause");
    }

    #[test]
    fn threads_that_come_late_do_not_crowd_a_second() {
        let pace = Pace::new(4.0);
        let start = Instant::now();
        let at = |ms: u64| start + Duration::from_millis(ms);
        for ms in [0, 700, 710, 720] {
            assert_eq!(pace.send(at(ms)), Ok(()), "{ms}");
        }
        let free = at(1000) + MARGIN;
        assert_eq!(pace.send(at(730)), Err(free));
        assert_eq!(pace.send(free), Ok(()));
        assert_eq!(pace.send(free), Err(at(1700) + MARGIN));
        // Less than one a second is kept by the spacing alone.
        assert_eq!(Pace::new(0.1).send(start), Ok(()));
    }
}
