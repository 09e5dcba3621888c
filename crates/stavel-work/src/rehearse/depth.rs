//! The recorded order book that is played beside a series.

use rust_decimal::Decimal;
use stavel_core::Result;
use stavel_core::model::instrument::InstrumentKind;
use stavel_core::model::{Frame, Instrument, Span};
use stavel_core::rehearse::{
    BookTape, BookUnits, DealDepth, DepthSizes, Desk, LOT, PriceFactor, Rescaled, RowSource, ShelfRows,
};
use stavel_core::store::{SeriesInfo, Shelf};

/// A recorded order book beside a series.
pub struct DepthBeside {
    /// Its rows on the shelf.
    pub info: SeriesInfo,
    /// What its sizes count; while nobody has said it the book is shown, and orders are filled without it.
    pub sizes: Option<DepthSizes>,
}

/// The book that belongs to ticks: of the same source, else the only one that the instrument has. What a careful person would
/// want to know of one that is there and cannot be used is told.
pub fn depth_beside(
    all: &[SeriesInfo],
    played: &SeriesInfo,
    instrument: &Instrument,
    said: Option<DepthSizes>,
    doubts: &mut Vec<String>,
) -> Option<DepthBeside> {
    let is_depth = |info: &&SeriesInfo| {
        info.name.frame == Frame::Depth && info.name.instrument == played.name.instrument
    };
    let books: Vec<&SeriesInfo> = all.iter().filter(is_depth).collect();
    let same = books.iter().find(|info| info.name.source == played.name.source);
    let info = match (same, books.as_slice()) {
        _ if said == Some(DepthSizes::None) || played.name.frame != Frame::Ticks => return None,
        (Some(same), _) => (*same).clone(),
        (None, [one]) => (*one).clone(),
        (None, []) => return None,
        (None, several) => {
            let names: Vec<String> = several.iter().map(|info| info.name.to_string()).collect();
            doubts.push(format!(
                "{} has no recorded depth of its own source, and {} are of others: orders are filled without it",
                played.name,
                names.join(", ")
            ));
            return None;
        }
    };
    if info.is_afloat() {
        doubts.push(format!(
            "{} is afloat, so nobody knows which quote it stands beside: orders are filled without it; align it",
            info.name
        ));
        return None;
    }
    // A contract of an exchange is offered in contracts; elsewhere feeds differ.
    let is_contract = instrument.sheet.kind == InstrumentKind::Futures;
    let usual = is_contract.then_some(DepthSizes::Lots);
    let sizes = said.or(usual);
    if sizes.is_none() {
        doubts.push(format!(
            "nobody has said what the sizes of {} count, so orders are filled without it: --depth lots, or --depth units; --depth none leaves it away",
            info.name
        ));
    }
    Some(DepthBeside { info, sizes })
}

impl DepthBeside {
    /// What it is, in words.
    pub fn in_words(&self) -> String {
        let info = &self.info;
        let use_of = match self.sizes {
            Some(DepthSizes::Lots) => "fills take from its sizes, in lots",
            Some(DepthSizes::Units) => "fills take from its sizes, in units",
            Some(DepthSizes::None) | None => "shown; fills do not take from it",
        };
        format!("beside the recorded depth {}, edition {}: {use_of}", info.name, info.edition.number)
    }

    /// The rows as they are played beside prices of so many decimals.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn tape(
        &self,
        shelf: &Shelf,
        decimals: u8,
        instrument: &Instrument,
        factor: Option<PriceFactor>,
    ) -> Result<BookTape> {
        let rows = ShelfRows::new(shelf.reader(&self.info.edition)?, Span::ALL);
        let source: Box<dyn RowSource> = match factor {
            Some(factor) => Box::new(Rescaled::new(rows, factor)),
            None => Box::new(rows),
        };
        Ok(BookTape::new(source, self.units(decimals, instrument)))
    }

    fn units(&self, decimals: u8, instrument: &Instrument) -> BookUnits {
        let scale = self.info.edition.scale;
        let power = |by: u8| 10_i64.saturating_pow(by.into());
        let price =
            (power(decimals.saturating_sub(scale.price)), power(scale.price.saturating_sub(decimals)));
        let said = instrument.values.get("contract_size").and_then(|size| size.parse::<Decimal>().ok());
        let lot = match self.sizes {
            Some(DepthSizes::Units) => said.filter(|size| *size > Decimal::ZERO).unwrap_or(Decimal::ONE),
            _ => Decimal::ONE,
        };
        let size =
            (i128::from(LOT) * 10_i128.pow(lot.scale()), i128::from(power(scale.volume)) * lot.mantissa());
        BookUnits { price, size, deals: self.sizes.is_some() }
    }
}

/// Deals that the recorded book gave the size of, for which it was too old, and that were larger than all that it had.
pub fn deals_by_depth(desk: &Desk) -> [usize; 3] {
    let count = |depth: DealDepth| desk.deals().filter(|deal| deal.depth == depth).count();
    [DealDepth::Recorded, DealDepth::Old, DealDepth::Beyond].map(count)
}
