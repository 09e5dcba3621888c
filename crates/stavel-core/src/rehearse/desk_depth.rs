//! How deep an order goes into the recorded book: what it is dealt at, part by part.

use super::book::DealDepth;
use super::desk::Desk;
use super::fill::slips;
use super::order::{Order, OrderKind};
use super::quote::TradeQuote;
use crate::model::Micros;
use crate::model::time::MINUTE;

/// A book of which no row was told for longer than this says nothing of the moment.
const FRESH: Micros = MINUTE;

/// A part of an order that is dealt at one price.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct DealPart {
    pub lots: i64,
    /// In points.
    pub price: i64,
    pub depth: DealDepth,
}

impl Desk {
    /// What a size of an order is dealt at where the price of its side is so: all of it there, or, where the book is known,
    /// level by level. Prices are those of the quote, made worse by how far a level lies behind the best: the book may be
    /// told a little later or earlier than the quote. A limit takes no more than there is up to its price.
    pub(super) fn parts_of(
        &mut self,
        order: &Order,
        lots: i64,
        price: i64,
        quote: &TradeQuote,
    ) -> Vec<DealPart> {
        let sign = order.direction.sign();
        let slip = if slips(order.kind) { self.rules.slippage * sign } else { 0 };
        let whole = |depth: DealDepth| vec![DealPart { lots, price: price + slip, depth }];
        // Within a bar there are no quotes that a book could stand beside.
        if self.state.walking.is_some() {
            return whole(DealDepth::Absent);
        }
        let book = self.state.books.get_mut(order.of).filter(|book| book.deals());
        let Some(book) = book else { return whole(DealDepth::Absent) };
        if book.told().is_none_or(|told| quote.time - told > FRESH) {
            return whole(DealDepth::Old);
        }
        let levels = book.against_mut(order.direction);
        let Some(best) = levels.first().map(|level| level.price) else { return whole(DealDepth::Old) };
        let (mut left, mut last, mut parts) = (lots, price, Vec::new());
        for level in levels {
            let at = price + (level.price - best);
            let is_too_far = matches!(order.kind, OrderKind::Limit(limit) if (at - limit) * sign > 0);
            if is_too_far || left == 0 {
                break;
            }
            last = at;
            let part = left.min(level.left());
            if part > 0 {
                level.taken += part;
                left -= part;
                parts.push(DealPart { lots: part, price: at + slip, depth: DealDepth::Recorded });
            }
        }
        if left > 0 && !matches!(order.kind, OrderKind::Limit(_)) {
            parts.push(DealPart { lots: left, price: last + slip, depth: DealDepth::Beyond });
        }
        parts
    }
}
