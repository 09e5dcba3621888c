//! The recorded order book below the chart, and the last rows of the tape beside it.

use ratatui::style::Color;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{MINUTE, SECOND, length_in_words, wall};
use stavel_core::model::{Columns, Field};
use stavel_core::rehearse::{Book, BookLevel, Direction, lots_text};

use super::play::Play;
use crate::canvas::Canvas;
use crate::theme;

/// Columns of the book.
const BOOK: u16 = 30;
/// Columns of the tape.
const TAPE: u16 = 31;
/// The bench is wide enough for the tape as well.
const WIDE: u16 = 120;
/// The journal keeps so much at least.
const LEAST_JOURNAL: u16 = 36;

/// Draws what was recorded of the instrument that is worked in; gives the columns that are taken.
pub fn draw(play: &Play, y: u16, lines: u16, canvas: &mut Canvas<'_>) -> u16 {
    let Some(depth) = play.played[play.of()].depth.as_ref() else { return 0 };
    let width = canvas.width();
    if width < BOOK + LEAST_JOURNAL {
        return 0;
    }
    let source = if depth.info.name.source == play.series().source {
        "depth".to_owned()
    } else {
        format!("depth of {}", depth.info.name.source)
    };
    let deals = if depth.sizes.is_some() { "" } else { ", not dealt by (m)" };
    canvas.put(1, y, &format!(" {source}{deals} "), theme::faint());
    draw_book(play, canvas.part(1, y + 1, BOOK - 2, lines));
    if width < WIDE {
        return BOOK;
    }
    canvas.put(BOOK, y, " tape ", theme::faint());
    draw_tape(play, canvas.part(BOOK, y + 1, TAPE - 2, lines));
    BOOK + TAPE
}

fn draw_book(play: &Play, mut canvas: Canvas<'_>) {
    let Some(book) = play.replay.desk().book(play.of()) else {
        canvas.put(0, 0, "nothing recorded yet", theme::faint());
        return;
    };
    let old = book.told().map(|told| play.now - told).filter(|old| *old > MINUTE);
    let room = usize::from(canvas.height().saturating_sub(u16::from(old.is_some())));
    let (asks, bids) = (room / 2, room - room / 2);
    let lines = ladder(book, asks, bids);
    let most = lines.iter().map(|(_, level)| level.left()).max().unwrap_or(1).max(1);
    for (line, (direction, level)) in lines.iter().enumerate() {
        // Bids stand below the middle, however few asks there are.
        let colour = match (old.is_some(), direction) {
            (true, _) => theme::FAINT,
            (false, Direction::Buy) => theme::RISING,
            (false, Direction::Sell) => theme::FALLING,
        };
        draw_level(play, level, most, colour, line as u16, &mut canvas);
    }
    if let Some(old) = old {
        let words = format!("▲ {} old: not dealt by", length_in_words(old / SECOND * SECOND));
        canvas.put(0, canvas.height().saturating_sub(1), &words, theme::words().fg(theme::RISING));
    }
}

/// The best asks, the furthest first, and below them the best bids, with what an order of that direction takes from.
fn ladder(book: &Book, asks: usize, bids: usize) -> Vec<(Direction, BookLevel)> {
    let side = |direction: Direction, most: usize| {
        book.against(direction).iter().take(most).map(move |level| (direction, *level)).collect::<Vec<_>>()
    };
    let mut lines = side(Direction::Buy, asks);
    lines.reverse();
    lines.extend(side(Direction::Sell, bids));
    lines
}

fn draw_level(play: &Play, level: &BookLevel, most: i64, colour: Color, y: u16, canvas: &mut Canvas<'_>) {
    let price = scaled(level.price, play.decimals());
    let x = canvas.put(0, y, &price, theme::words().fg(colour)) + 1;
    let size = lots_text(level.left());
    let room = i64::from(canvas.width().saturating_sub(x + 10)).max(1);
    let long = (level.left() * room + most - 1) / most;
    canvas.put(x, y, &"█".repeat(usize::try_from(long).unwrap_or(0)), theme::words().fg(colour));
    canvas.put_right(canvas.width(), y, &size, theme::words());
}

/// The last rows that are over, the newest first.
fn draw_tape(play: &Play, mut canvas: Canvas<'_>) {
    let (piece, at) = play.tape().piece();
    let over = piece.rows_over(at);
    let rows = &piece.rows;
    for (line, row) in (0..over).rev().take(usize::from(canvas.height())).enumerate() {
        let (words, is_up) = row_in_words(rows, row, play.decimals());
        let time = &wall(rows.time[row] / SECOND * SECOND)[11..];
        let x = canvas.put(0, line as u16, time, theme::faint()) + 1;
        let colour = match is_up {
            Some(true) => theme::RISING,
            Some(false) => theme::FALLING,
            None => theme::WORDS,
        };
        canvas.put(x, line as u16, &words, theme::words().fg(colour));
    }
}

/// A row of the tape: a trade with its size and who began it, or a quote; and whether it went up.
fn row_in_words(rows: &Columns, row: usize, decimals: u8) -> (String, Option<bool>) {
    let value = |field: Field, row: usize| rows.cells(field).get(row);
    let price = |points: i64| scaled(points, decimals);
    let before = |field: Field| row.checked_sub(1).and_then(|row| value(field, row));
    let moved = |now: Option<i64>, before: Option<i64>| {
        let (now, before) = (now?, before?);
        (now != before).then_some(now > before)
    };
    let arrow = |is_up: Option<bool>| match is_up {
        Some(true) => " ↑",
        Some(false) => " ↓",
        None => "",
    };
    if let Some(last) = value(Field::Last, row) {
        let size = value(Field::Volume, row)
            .map(|size| format!(" {}", scaled(size, rows.scale.volume)))
            .unwrap_or_default();
        let is_up = match value(Field::Taker, row) {
            Some(1) => Some(true),
            Some(2) => Some(false),
            _ => moved(Some(last), before(Field::Last)),
        };
        return (format!("{}{size}{}", price(last), arrow(is_up)), is_up);
    }
    let (bid, ask) = (value(Field::Bid, row), value(Field::Ask, row));
    let is_up = moved(bid, before(Field::Bid)).or(moved(ask, before(Field::Ask)));
    let side = |points: Option<i64>| points.map_or("·".to_owned(), price);
    (format!("{} {}{}", side(bid), side(ask), arrow(is_up)), is_up)
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::{ABSENT, Scale};

    #[test]
    fn rows_of_the_tape_say_only_what_they_know() {
        let rows = |fields: &[Field], data: Vec<Vec<i64>>| Columns {
            time: vec![0, 1],
            fields: fields.to_vec(),
            data,
            scale: Scale { price: 2, volume: 1 },
        };
        let trades = rows(
            &[Field::Last, Field::Volume, Field::Taker],
            vec![vec![41_050, 41_025], vec![5, ABSENT], vec![2, 1]],
        );
        assert_eq!(row_in_words(&trades, 0, 2), ("410.50 0.5 ↓".to_owned(), Some(false)));
        assert_eq!(row_in_words(&trades, 1, 2), ("410.25 ↑".to_owned(), Some(true)), "who began it says so");
        let quotes = rows(&[Field::Bid, Field::Ask], vec![vec![100, ABSENT], vec![110, 120]]);
        assert_eq!(row_in_words(&quotes, 0, 2), ("1.00 1.10".to_owned(), None));
        assert_eq!(row_in_words(&quotes, 1, 2), ("· 1.20 ↑".to_owned(), Some(true)));
    }
}
