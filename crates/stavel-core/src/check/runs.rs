//! Runs of rows with the same fault.

use std::collections::BTreeMap;

use super::{FindingDetail, FindingKind};
use crate::model::Micros;

/// Neighbouring rows with the same fault, told as one finding.
#[derive(Default)]
pub struct RowRuns {
    open: BTreeMap<FindingKind, RowRun>,
    done: Vec<RowRun>,
}

/// Rows of one kind that lie close together.
pub struct RowRun {
    pub kind: FindingKind,
    pub from: Micros,
    pub to: Micros,
    pub rows: u64,
    /// Rows of closed hours that are not filler.
    pub with_trade: u64,
}

impl RowRun {
    /// What is particular about the run.
    pub fn detail(&self) -> FindingDetail {
        match self.kind {
            FindingKind::ClosedMarket => FindingDetail::ClosedRows { with_trade: self.with_trade },
            _ => FindingDetail::Rows,
        }
    }
}

impl RowRuns {
    /// Adds a row; it joins the run before it if that ended at most `join` ago.
    pub fn add(&mut self, kind: FindingKind, time: Micros, join: Micros) {
        self.add_with(kind, time, join, false);
    }

    /// The same for rows of closed hours, where filler and trade are kept apart.
    pub fn add_with(&mut self, kind: FindingKind, time: Micros, join: Micros, with_trade: bool) {
        let trade = u64::from(with_trade);
        match self.open.get_mut(&kind) {
            // Filler and trade in closed hours are two stories.
            Some(run) if time - run.to <= join && (run.with_trade > 0) == with_trade => {
                run.to = time;
                run.rows += 1;
                run.with_trade += trade;
            }
            _ => {
                let run = RowRun { kind, from: time, to: time, rows: 1, with_trade: trade };
                self.done.extend(self.open.insert(kind, run));
            }
        }
    }

    /// Every run.
    pub fn done(mut self) -> Vec<RowRun> {
        self.done.extend(std::mem::take(&mut self.open).into_values());
        self.done
    }
}
