//! A quick look over a whole file: what it holds, without taking it.

use std::io::{Read, Seek, SeekFrom};

use super::blocks::{LineBlock, skip_head};
use super::bring::Member;
use super::cells;
use super::parse::Parser;
use super::sniff::{DateEvidence, Decided};
use crate::align::gather;
use crate::model::layout::{Layout, Use};
use crate::model::time::MINUTE;
use crate::model::{Columns, Field, Micros, Scale, Shape, present};
use crate::{Error, Result};

/// Files up to this size are looked at as a whole.
const WHOLE: u64 = 4 << 20;
/// Places looked at in larger ones, and the bytes looked at in each.
const PLACES: u64 = 24;
const PIECE: usize = 64 << 10;

/// What a look over a file gave.
#[derive(Debug, Clone, Default)]
pub struct Scanned {
    /// Rows, those that would be rejected included; an estimate where the file was not read whole.
    pub rows: u64,
    /// Rows that could not be understood.
    pub rejected: u64,
    /// True where only a part was read, and the numbers are told from it.
    pub is_estimate: bool,
    /// First and last time, as written.
    pub ends: Option<(Micros, Micros)>,
    /// The largest difference of two neighbouring prices and when it was, scaled as the layout has it.
    pub jump: Option<(i64, Micros)>,
    /// Steps between neighbouring times, as (before, after), where they are larger than usual.
    pub gaps: Vec<(Micros, Micros)>,
    /// Symbols met, where a column has them.
    pub symbols: Vec<String>,
    /// True where some volume is not zero.
    pub has_volume: bool,
    /// High, low and close of the rows that were looked at, ticks as minutes: in order of time, as written.
    pub glimpses: Columns,
}

impl Scanned {
    /// Adds what another file of the same series gave.
    pub fn add(&mut self, other: &Scanned) {
        self.rows += other.rows;
        self.rejected += other.rejected;
        self.is_estimate |= other.is_estimate;
        if let Some((first, last)) = other.ends {
            widen(self, first, last);
        }
        self.jump = self.jump.into_iter().chain(other.jump).max_by_key(|j| j.0);
        self.gaps.extend(&other.gaps);
        let new: Vec<String> = other.symbols.iter().filter(|s| !self.symbols.contains(s)).cloned().collect();
        self.symbols.extend(new);
        self.has_volume |= other.has_volume;
    }
}

/// Pieces of the file's body, each of whole lines, in order. The first begins after the header.
pub fn pieces(member: &Member, layout: &Layout) -> Result<Vec<Vec<u8>>> {
    let failed = |e: std::io::Error| Error::input(format!("{} cannot be read: {e}.", member.place()));
    let mut out = Vec::new();
    let mut head = Vec::new();
    let whole = member.bytes <= WHOLE;
    let limit = if whole { WHOLE * 16 } else { PIECE as u64 };
    member.open()?.take(limit).read_to_end(&mut head).map_err(failed)?;
    if !whole || head.len() as u64 == limit {
        cut_end(&mut head);
    }
    let mut block = LineBlock { text: head, byte: 0 };
    skip_head(&mut block, layout);
    out.push(block.text);
    // Only in a plain file can one look in the middle without reading all before it.
    if !whole && member.is_plain() {
        let mut file = std::fs::File::open(&member.path).map_err(failed)?;
        for n in 1..=PLACES {
            // The last piece ends where the file does.
            let end = member.bytes - PIECE as u64;
            let at = if n == PLACES { end } else { end / PLACES * n };
            file.seek(SeekFrom::Start(at)).map_err(failed)?;
            let mut piece = Vec::with_capacity(PIECE);
            (&mut file).take(PIECE as u64).read_to_end(&mut piece).map_err(failed)?;
            let begin = memchr::memchr(b'\n', &piece).map_or(piece.len(), |i| i + 1);
            piece.drain(..begin);
            if n < PLACES {
                cut_end(&mut piece);
            }
            out.push(piece);
        }
    }
    Ok(out)
}

fn cut_end(text: &mut Vec<u8>) {
    let end = memchr::memrchr(b'\n', text).map_or(0, |i| i + 1);
    text.truncate(end);
}

/// Counts what pieces of a file hold.
pub fn scan(member: &Member, layout: &Layout, pieces: &[Vec<u8>]) -> Scanned {
    scan_bytes(layout, pieces, member.bytes)
}

/// The same of a file that has so many bytes in all.
pub fn scan_bytes(layout: &Layout, pieces: &[Vec<u8>], body: u64) -> Scanned {
    let parser = Parser::new(layout, Scale { price: layout.price_decimals, volume: layout.volume_decimals });
    let mut found = Scanned::default();
    let mut bytes = 0u64;
    for piece in pieces {
        bytes += piece.len() as u64;
        let parsed = parser.block(piece);
        let too_fine = |r: &&super::parse::Reject| !matches!(r.fault, super::parse::Fault::TooFine { .. });
        found.rejected += parsed.rejects.iter().filter(too_fine).count() as u64;
        found.has_volume |= parsed.rows.cells(Field::Volume).present().any(|volume| volume != 0);
        found.rows += (parsed.rows.len() + parsed.rejects.len()) as u64;
        for name in &parsed.symbols {
            let name = String::from_utf8_lossy(name).into_owned();
            if !found.symbols.contains(&name) {
                found.symbols.push(name);
            }
        }
        if parsed.symbols.len() < 2 {
            look_at_rows(&mut found, &parsed.rows);
            glimpse(&mut found.glimpses, parsed.rows);
        } else if let (Some(a), Some(b)) = (parsed.rows.time.iter().min(), parsed.rows.time.iter().max()) {
            widen(&mut found, *a, *b);
        }
    }
    found.glimpses.sort();
    if bytes > 0 && bytes * 10 < body * 9 {
        found.is_estimate = true;
        let scaled = |n: u64| (n as u128 * body as u128 / bytes as u128) as u64;
        (found.rows, found.rejected) = (scaled(found.rows), scaled(found.rejected));
    }
    found
}

/// Adds rows as bars of high, low and close.
fn glimpse(glimpses: &mut Columns, rows: Columns) {
    const PRICES: [Field; 3] = [Field::High, Field::Low, Field::Close];
    let mut rows = rows.with_whole_bars();
    let tick = [Field::Bid, Field::Ask, Field::Last].into_iter().find(|f| rows.has(*f));
    let of = |f: Field| if rows.shape() == Shape::Bars { Some(f) } else { tick };
    let [Some(high), Some(low), Some(close)] = PRICES.map(of) else { return };
    if ![high, low, close].iter().all(|f| rows.has(*f)) {
        return;
    }
    rows.sort();
    let [high, low, close] = [high, low, close].map(|f| rows.column(f));
    if glimpses.fields.is_empty() {
        *glimpses = Columns::empty(&PRICES, rows.scale);
    }
    let is_bars = rows.shape() == Shape::Bars;
    for i in 0..rows.len() {
        let prices = [high[i], low[i], close[i]];
        if prices.iter().all(|p| present(*p).is_some()) {
            let start = if is_bars { rows.time[i] } else { rows.time[i].div_euclid(MINUTE) * MINUTE };
            gather(glimpses, start, prices);
        }
    }
}

fn widen(found: &mut Scanned, first: Micros, last: Micros) {
    found.ends = Some(found.ends.map_or((first, last), |(a, b)| (a.min(first), b.max(last))));
}

fn look_at_rows(found: &mut Scanned, rows: &Columns) {
    let Some((&first, &last)) = rows.time.iter().min().zip(rows.time.iter().max()) else { return };
    widen(found, first, last);
    let price = rows.fields.iter().position(|f| f.is_price()).map(|i| &rows.data[i]);
    for i in 1..rows.len() {
        let pair = price.and_then(|p| present(p[i]).zip(present(p[i - 1])));
        if let Some((now, before)) = pair {
            let jump = (now - before).abs();
            if found.jump.is_none_or(|(most, _)| jump > most) {
                found.jump = Some((jump, rows.time[i]));
            }
        }
    }
    // A file may be written newest first, or in no order at all.
    let mut times = rows.time.clone();
    times.sort_unstable();
    let usual = usual_step(&times).unwrap_or(0);
    let steps = times.windows(2).filter(|w| w[1] - w[0] > 2 * usual.max(1));
    found.gaps.extend(steps.map(|w| (w[0], w[1])));
}

/// The step between neighbouring times that is seen most often.
fn usual_step(times: &[Micros]) -> Option<Micros> {
    use crate::model::time::DAY;
    let mut steps: Vec<Micros> = times.windows(2).map(|w| w[1] - w[0]).filter(|&s| s > 0).collect();
    steps.sort_unstable();
    let most = steps.chunk_by(|a, b| a == b).max_by_key(|run| run.len())?;
    // Days apart is daily even over weekends, whatever the sample begins with.
    if most[0] > DAY && steps.contains(&DAY) { Some(DAY) } else { Some(most[0]) }
}

/// What the dates in pieces of a file, or in the whole file where they do not decide, say about the
/// order of day and month.
pub fn order_of_dates(
    member: &Member,
    layout: &Layout,
    pieces: &[Vec<u8>],
) -> Result<Result<Decided, DateEvidence>> {
    let column = layout.columns.iter().position(|u| matches!(u, Use::Moment | Use::Date)).unwrap_or(0);
    let mut evidence = DateEvidence::default();
    let see = |evidence: &mut DateEvidence, text: &[u8]| {
        for line in text.split(|&c| c == b'\n') {
            if let Some(cell) = cells::of(line.trim_ascii_end(), layout.delimiter).nth(column) {
                evidence.see(cell);
            }
        }
    };
    for piece in pieces {
        see(&mut evidence, piece);
        evidence.jump();
    }
    if let Some(decided) = evidence.by_numbers() {
        return Ok(Ok(decided));
    }
    let whole = pieces.iter().map(Vec::len).sum::<usize>() as u64 * 10 >= member.bytes * 9;
    if !whole {
        evidence = DateEvidence::default();
        let mut blocks = super::blocks::LineBlocks::open(member)?;
        let mut first = true;
        while let Some(mut block) = blocks.next()? {
            if std::mem::take(&mut first) {
                skip_head(&mut block, layout);
            }
            see(&mut evidence, &block.text);
            if let Some(decided) = evidence.by_numbers() {
                return Ok(Ok(decided));
            }
        }
    }
    Ok(evidence.by_order_and_weekdays().ok_or(evidence))
}
