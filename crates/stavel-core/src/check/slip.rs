//! Clock slips: sessions that begin and end an hour early or late.

use crate::model::time::HOUR;
use crate::model::{Micros, Span};

/// Counts of rows with trade around the ends of one open span.
#[derive(Debug, Clone, Copy, Default)]
struct SessionEdges {
    before_open: u32,
    after_open: u32,
    before_close: u32,
    after_close: u32,
}

/// Watches whether trade begins and ends with the session.
#[derive(Debug)]
pub struct Slips {
    spans: Vec<Span>,
    edges: Vec<SessionEdges>,
    at: usize,
}

impl Slips {
    /// For a session's open spans. Those too close to their neighbours to tell are passed over.
    pub fn new(spans: &[Span]) -> Slips {
        Slips { spans: spans.to_vec(), edges: vec![SessionEdges::default(); spans.len()], at: 0 }
    }

    /// Takes the time of a row with trade in it; times mostly grow.
    #[inline]
    pub fn trade(&mut self, t: Micros) {
        // A span's reach ends an hour after it closes.
        while self.at < self.spans.len() && t >= self.spans[self.at].to + HOUR {
            self.at += 1;
        }
        let Some(span) = self.spans.get(self.at) else { return };
        if t >= span.from + HOUR && t < span.to - HOUR {
            return;
        }
        let edges = &mut self.edges[self.at];
        if t >= span.to {
            edges.after_close += 1;
        } else if t >= span.to - HOUR {
            edges.before_close += 1;
        } else if t < span.from {
            edges.before_open += u32::from(t >= span.from - HOUR);
        } else if t < span.from + HOUR {
            edges.after_open += 1;
        }
    }

    /// Runs of neighbouring spans that slipped the same way: the span written and the slip.
    pub fn found(&self) -> Vec<(Span, Micros)> {
        let mut out: Vec<(Span, Micros, usize)> = Vec::new();
        for (i, (span, e)) in self.spans.iter().zip(&self.edges).enumerate() {
            let apart = |a: usize, b: usize| match (self.spans.get(a), self.spans.get(b)) {
                (Some(a), Some(b)) => b.from - a.to >= 2 * HOUR,
                _ => true,
            };
            if !apart(i.wrapping_sub(1), i) || !apart(i, i + 1) || span.length() < 3 * HOUR {
                continue;
            }
            // Late: busy after the close, silent after the opening. Early: the mirror image.
            let late = e.after_close >= 10 && e.after_open * 10 < e.after_close;
            let early = e.before_open >= 10 && e.before_close * 10 < e.before_open;
            let slip = match (late, early) {
                (true, false) => HOUR,
                (false, true) => -HOUR,
                _ => continue,
            };
            let written = Span::new(span.from + slip, span.to + slip);
            match out.last_mut() {
                Some((run, s, last)) if *s == slip && *last + 1 == i => {
                    run.to = written.to;
                    *last = i;
                }
                _ => out.push((written, slip, i)),
            }
        }
        out.into_iter().map(|(span, slip, _)| (span, slip)).collect()
    }
}
