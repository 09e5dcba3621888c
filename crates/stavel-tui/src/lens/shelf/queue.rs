//! The queue of a fetch that runs: what has come, how fast, how long it takes, and the last trouble.

use std::time::Instant;

use ratatui::style::Style;
use stavel_core::job::{Job, WorkLine};
use stavel_core::model::SeriesName;
use stavel_core::model::time::length_in_words;
use stavel_work::counted;

use crate::canvas::Canvas;
use crate::theme;

/// The queue at a moment.
pub struct QueueSight {
    lines: Vec<WorkLine>,
    is_held: bool,
    begun: Instant,
}

impl QueueSight {
    /// The queue of the work that runs; none where it has none.
    pub fn of(job: &Job, begun: Instant) -> Option<QueueSight> {
        let lines = job.lines();
        (!lines.is_empty()).then(|| QueueSight { lines, is_held: job.is_held(), begun })
    }

    /// The place of a series in it, and what is known of it.
    pub fn line(&self, name: &SeriesName) -> Option<(usize, &WorkLine)> {
        let name = name.to_string();
        self.lines.iter().enumerate().find(|(_, line)| line.name == name)
    }

    /// The queue as a whole, in two lines.
    pub fn draw(&self, mut canvas: Canvas<'_>) {
        let counts = |of: fn(&WorkLine) -> u64| -> u64 {
            self.lines.iter().filter(|line| !line.is_left).map(of).sum()
        };
        let (done, total, failed) =
            (counts(|line| line.done), counts(|line| line.total), counts(|line| line.failed));
        let (words, colour) =
            if self.is_held { ("‖ held", theme::RISING) } else { ("▶ fetching", theme::GOOD) };
        let x = canvas.put(1, 0, words, theme::words().fg(colour));
        let rate = done as f64 / self.begun.elapsed().as_secs_f64().max(0.1);
        let left = match total.saturating_sub(done) {
            rest if rest > 0 && done > 0 => {
                let seconds = (rest as f64 / rate).ceil().max(1.0);
                format!(", {} left", length_in_words((seconds * 1e6) as i64))
            }
            _ => String::new(),
        };
        let failed = if failed > 0 { format!(", {failed} failed") } else { String::new() };
        let (pieces, series) = (counted(total, "piece"), self.lines.len());
        let told = format!("{done} of {pieces} in {series} series, {rate:.1} a second{left}{failed}");
        canvas.put(x + 2, 0, &told, theme::words());
        if let Some((line, trouble)) = self.lines.iter().rev().find_map(|l| Some((l, l.trouble.as_ref()?))) {
            canvas.put(1, 1, &format!("▲ {} {trouble}", line.name), theme::words().fg(theme::RISING));
        }
    }
}

/// Where a series stands in the queue, in words.
pub fn state_of(place: usize, line: &WorkLine) -> (String, Style) {
    let failed = if line.failed > 0 { format!(", {} failed", line.failed) } else { String::new() };
    match (line.is_left, line.done == line.total) {
        (true, _) => ("left away".into(), theme::faint()),
        (_, true) if line.failed == 0 => ("come".into(), theme::words().fg(theme::GOOD)),
        (_, true) => (format!("come{failed}"), theme::words().fg(theme::WRONG)),
        (_, false) if line.done == 0 => (format!("waits, place {}", place + 1), theme::faint()),
        (_, false) => (format!("comes{failed}"), theme::words()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_series_waits_comes_and_is_there() {
        let told = |done, failed, is_left| {
            state_of(2, &WorkLine { done, failed, is_left, total: 9, ..WorkLine::default() }).0
        };
        assert_eq!(told(0, 0, false), "waits, place 3");
        assert_eq!(told(4, 1, false), "comes, 1 failed");
        assert_eq!((told(9, 0, false), told(9, 2, false)), ("come".into(), "come, 2 failed".into()));
        assert_eq!(told(4, 0, true), "left away");
        assert!(QueueSight::of(&Job::unwatched(), Instant::now()).is_none());
    }
}
