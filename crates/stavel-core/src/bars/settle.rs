//! The close of a session day where a settlement time is said: the last price before it, whatever trades later.

use crate::model::{Micros, Session};

/// Tells row by row whether a price may be the close of its session day.
pub(super) struct Settling {
    session: Session,
    /// How long the rows last: a bar's close counts where all of it lies before the settlement.
    length: Micros,
    /// Until when the answer found last holds, and the answer.
    until: Micros,
    counts: bool,
}

impl Settling {
    /// For rows of a length; none where the session has no settlement time.
    pub fn new(session: &Session, length: Micros) -> Option<Settling> {
        session.settlement.as_ref()?;
        Some(Settling { session: session.clone(), length, until: Micros::MIN, counts: true })
    }

    /// Whether the price of a row at this time counts as a close, and until when that holds. Rows come in order of
    /// time.
    #[inline(always)]
    pub fn at(&mut self, time: Micros) -> (bool, Micros) {
        if time >= self.until {
            self.find(time);
        }
        (self.counts, self.until)
    }

    #[cold]
    fn find(&mut self, time: Micros) {
        let day = self.session.clock.day_of(time);
        let end = self.session.day_span(day).to;
        let settles =
            self.session.settlement_of(day).map(|at| at - self.length + 1 - i64::from(self.length == 0));
        (self.counts, self.until) = match settles {
            Some(at) if time < at => (true, at.min(end)),
            Some(_) => (false, end),
            None => (true, end),
        };
        self.until = self.until.max(time + 1);
    }
}
