//! Desks and tapes for tests: NOKSEK, of which a point of a lot is one SEK, open all week.

use stavel_core::hour_spreads::HourSpreads;
use stavel_core::model::time::HOUR;
use stavel_core::model::{Clock, Columns, Field, Frame, Instrument, OwnValues, Scale, Session, Span};
use stavel_core::rehearse::{
    BarEnds, Desk, DeskRules, HeldRows, RateRule, SpreadRule, Tape, TradeQuote, Traded,
};

/// An instrument with some values of its sheet.
pub fn traded(name: &str, sheet: &[(&str, &str)]) -> Traded {
    let usual = [
        ("kind", "forex"),
        ("decimals", "5"),
        ("tick_size", "0.00001"),
        ("tick_value", "1"),
        ("swap_triple", "none"),
        ("clock", "UTC"),
        ("hours", "mon-sun 00:00-24:00 UTC"),
    ];
    let said = usual.iter().chain(sheet).map(|(key, value)| (key.to_string(), value.to_string())).collect();
    let own = OwnValues { said, ..OwnValues::default() };
    let sheet = Instrument::resolve(name, None, own).unwrap().sheet;
    Traded { name: name.into(), sheet, decimals: 5, rate: RateRule::Same, patience: HOUR }
}

/// A desk for one instrument.
pub fn desk(sheet: &[(&str, &str)]) -> Desk {
    desk_with(sheet, DeskRules::default())
}

/// A desk with rules.
pub fn desk_with(sheet: &[(&str, &str)], rules: DeskRules) -> Desk {
    Desk::new(vec![traded("NOKSEK", sheet)], rules)
}

/// A tape of quotes.
pub fn tape(quotes: &[TradeQuote]) -> Tape {
    let of = |value: fn(&TradeQuote) -> i64| quotes.iter().map(value).collect::<Vec<i64>>();
    let rows = Columns {
        time: of(|q| q.time),
        fields: vec![Field::Bid, Field::Ask],
        data: vec![of(|q| q.bid), of(|q| q.ask)],
        scale: Scale { price: 5, volume: 0 },
    };
    Tape::new(Box::new(HeldRows(rows)), ends(Frame::Ticks), rule(None), Span::ALL).unwrap()
}

/// A rule for spreads that no row says.
/// When bars of a frame are over where the market never closes.
pub fn ends(frame: Frame) -> BarEnds {
    BarEnds::new(frame, &Session::always())
}

pub fn rule(usual: Option<i64>) -> SpreadRule {
    SpreadRule::new("NOKSEK", HourSpreads(vec![usual; 168]), &Clock::utc(), None)
}
