//! What is asked of a chain.

use std::collections::BTreeMap;

use crate::compose::request::ComposeRequest;
use crate::model::Frame;
use crate::model::chain::{RollAdjust, RollAt, RollRule};

/// Contracts to be put one behind the other.
#[derive(Debug, Clone)]
pub struct ChainRequest {
    /// The instrument to make, and the values of its sheet.
    pub instrument: ComposeRequest,
    /// The contracts: series, instruments, or patterns of them as `BLY-*`.
    pub of: Vec<String>,
    /// The source of those that name none.
    pub source: Option<String>,
    /// The frame of those that name none.
    pub frame: Option<Frame>,
    /// When it rolls.
    pub rule: RollRule,
    /// How prices are brought to one level; none where nobody said it, and then they are not.
    pub adjust: Option<RollAdjust>,
    /// True where the first contract keeps its prices, false where the last one does.
    pub forward: bool,
    /// Rolls that are elsewhere than the rule has them, by the contract they roll out of.
    pub moved: BTreeMap<String, RollAt>,
}
