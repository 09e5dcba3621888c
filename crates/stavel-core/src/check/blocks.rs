//! Blocks of rows that were there before, at another time.
//!
//! Every row's values go into a rolling hash of the last [`WINDOW`] rows. Hashes that end in zeros are
//! remembered with their time, which samples the same windows wherever they stand. A block is a run of
//! remembered hashes that come again at one distance.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

use super::piece::CheckRows;
use super::{Finding, FindingDetail, FindingKind};
use crate::model::time::MINUTE;
use crate::model::{Micros, Span};

/// Rows a hash covers.
const WINDOW: usize = 16;
/// Of these, so many must differ from the row before: flat rows are alike everywhere.
const CHANGES: u32 = 9;
/// Sampled windows at one distance that make a block.
const FEWEST: u32 = 3;
/// Rows hashed at once.
const TOGETHER: usize = 1024;
const BASE: u64 = 0x9E37_79B9_7F4A_7C15;

/// The keys are hashes themselves.
#[derive(Default)]
struct IdentityHasher(u64);

impl Hasher for IdentityHasher {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, _: &[u8]) {}
    fn write_u64(&mut self, key: u64) {
        // The lowest bits are zero in all of them.
        self.0 = key.wrapping_mul(BASE);
    }
}

struct Match {
    /// Now less then.
    apart: Micros,
    from: Micros,
    to: Micros,
    from_row: u64,
    to_row: u64,
    windows: u32,
}

/// Watches for rows that come again.
pub struct RepeatWatch {
    /// One window in `2^bits` is remembered.
    bits: u32,
    ring: [(u64, Micros, bool); WINDOW],
    row: u64,
    hash: u64,
    /// `BASE` to the power of the window.
    power: u64,
    changes: u32,
    before: u64,
    seen: HashMap<u64, Micros, BuildHasherDefault<IdentityHasher>>,
    open: Option<Match>,
    found: Vec<Match>,
}

impl RepeatWatch {
    /// Ticks are many, so fewer of their windows are remembered.
    pub fn new(ticks: bool) -> RepeatWatch {
        let power = (0..WINDOW).fold(1u64, |p, _| p.wrapping_mul(BASE));
        RepeatWatch {
            bits: if ticks { 7 } else { 4 },
            ring: [(0, 0, false); WINDOW],
            row: 0,
            hash: 0,
            power,
            changes: 0,
            before: 0,
            seen: HashMap::default(),
            open: None,
            found: Vec::new(),
        }
    }

    pub fn piece(&mut self, piece: &CheckRows<'_>) {
        // Column by column, some rows at a time: what lies together is read together.
        let mut hashes = [0u64; TOGETHER];
        for from in (0..piece.time.len()).step_by(TOGETHER) {
            let rows = from..(from + TOGETHER).min(piece.time.len());
            let hashes = &mut hashes[..rows.len()];
            hashes.fill(0);
            for column in &piece.rows.data {
                for (hash, value) in hashes.iter_mut().zip(&column[rows.clone()]) {
                    *hash = (*hash ^ *value as u64).wrapping_mul(0xff51_afd7_ed55_8ccd).rotate_left(31);
                }
            }
            for (i, hash) in rows.zip(&*hashes) {
                if piece.counts(i) {
                    self.row(piece.time[i], *hash);
                }
            }
        }
    }

    #[inline]
    fn row(&mut self, time: Micros, value: u64) {
        let slot = (self.row % WINDOW as u64) as usize;
        let (old, _, old_changed) = self.ring[slot];
        let changed = value != self.before;
        self.before = value;
        self.hash =
            self.hash.wrapping_mul(BASE).wrapping_add(value).wrapping_sub(old.wrapping_mul(self.power));
        self.changes = self.changes + u32::from(changed) - u32::from(old_changed);
        self.ring[slot] = (value, time, changed);
        self.row += 1;
        let mixed = self.hash ^ (self.hash >> 29);
        if mixed & ((1 << self.bits) - 1) != 0 || self.row < WINDOW as u64 || self.changes < CHANGES {
            return;
        }
        let first = self.ring[(self.row % WINDOW as u64) as usize].1;
        match self.seen.get(&mixed) {
            Some(&then) if time - then > MINUTE => self.again(time, time - then, first),
            Some(_) => {}
            None => {
                self.seen.insert(mixed, time);
            }
        }
    }

    fn again(&mut self, time: Micros, apart: Micros, first: Micros) {
        let row = self.row;
        match &mut self.open {
            Some(m) if m.apart == apart && row - m.to_row < 40 << self.bits => {
                m.to = time;
                m.to_row = row;
                m.windows += 1;
            }
            _ => {
                self.end();
                let from_row = row - WINDOW as u64;
                self.open = Some(Match { apart, from: first, to: time, from_row, to_row: row, windows: 1 });
            }
        }
    }

    fn end(&mut self) {
        self.found.extend(self.open.take().filter(|m| m.windows >= FEWEST));
    }

    /// The blocks, from the first to the last window that was sampled: some rows at both ends are not in it.
    pub fn finish(mut self, row_length: Micros, out: &mut Vec<Finding>) {
        self.end();
        out.extend(self.found.into_iter().map(|m| Finding {
            kind: FindingKind::RepeatedBlock,
            span: Span::new(m.from, m.to + row_length.max(1)),
            rows: m.to_row - m.from_row,
            detail: FindingDetail::SameAsBefore(m.apart),
            remedy: Some(super::Remedy::Again(m.apart)),
        }));
    }
}
