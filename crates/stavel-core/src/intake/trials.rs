//! Intake given any bytes whatever, for the fuzz targets in `fuzz/` and for the test that replays what they found.
//! None of these may panic, hang, or use more memory than a few times the bytes.

use std::io::{Cursor, Read};

use super::blocks::{LineBlock, skip_head};
use super::bring::{html_to_lines, json_to_lines, utf16_to_utf8};
use super::parse::Parser;
use super::sniff::{DateEvidence, Sniffed, fit, header_under, sniff};
use super::{Layout, cells, scan};
use crate::model::{Scale, Side};

/// Names that say different things about a file.
const NAMES: [&str; 4] = ["NOKSEK_1m_2024-03-05.csv", "BLY-2024-05.txt", "table", "NZDSEK ticks.tsv"];

/// Understands a text and reads it by what was understood. The first byte chooses a name and a side.
pub fn text(data: &[u8]) {
    let Some((choice, sample)) = data.split_first() else { return };
    let name = NAMES[*choice as usize % NAMES.len()];
    let side = [None, Some(Side::Bid), Some(Side::Ask)][*choice as usize / 4 % 3];
    if let Ok(Sniffed { layout, .. }) = sniff(sample, name, name, side) {
        read_by(&layout, sample, name);
    }
}

/// A layout as TOML, a byte 0, and a text that is read by it.
pub fn layout(data: &[u8]) {
    let end = data.iter().position(|b| *b == 0).unwrap_or(data.len());
    let Ok(toml) = std::str::from_utf8(&data[..end]) else { return };
    let Ok(layout) = Layout::from_toml(toml) else { return };
    // A layout survives being written.
    if let Ok(again) = Layout::from_toml(&layout.to_toml()) {
        assert!(again.is_like(&layout), "{}", layout.to_toml());
    }
    read_by(&layout, data.get(end + 1..).unwrap_or_default(), NAMES[0]);
}

/// A document that may be JSON, lines of JSON, a page, or UTF-16 of either kind, by the first byte.
pub fn document(data: &[u8]) {
    let Some((choice, bytes)) = data.split_first() else { return };
    let mut lines = Vec::new();
    let converted = match choice % 4 {
        0 => {
            let own = bytes.to_vec();
            json_to_lines(&|| Ok(Box::new(Cursor::new(own.clone())) as Box<dyn Read + Send>), &mut lines)
        }
        1 => html_to_lines(bytes, *choice as usize / 4 % 3, &mut lines),
        big => utf16_to_utf8(bytes, big == 3, &mut lines),
    };
    assert!(lines.len() <= 64 * bytes.len() + 4096, "{} bytes became {}", bytes.len(), lines.len());
    if converted.is_ok() {
        lines.insert(0, *choice);
        text(&lines);
    }
}

fn read_by(layout: &Layout, sample: &[u8], name: &str) {
    let fitted = fit(layout, sample, name);
    header_under(&fitted.layout, sample);
    let mut block = LineBlock { text: sample.to_vec(), byte: 0 };
    skip_head(&mut block, &fitted.layout);
    let scale = Scale { price: fitted.layout.price_decimals, volume: fitted.layout.volume_decimals };
    let parsed = Parser::new(&fitted.layout, scale).block(&block.text);
    assert!(parsed.rows.data.iter().all(|column| column.len() == parsed.rows.time.len()));
    // Rounding reads no row less.
    let rounded = Parser::new(&fitted.layout, scale).rounding(true).block(&block.text);
    assert!(rounded.rows.len() >= parsed.rows.len());
    let mut evidence = DateEvidence::default();
    for line in block.text.split(|c| *c == b'\n') {
        cells::of(line, fitted.layout.delimiter).take(3).for_each(|cell| evidence.see(cell));
    }
    evidence.jump();
    let _ = (evidence.by_numbers(), evidence.by_order_and_weekdays(), evidence.in_words());
    scan::scan_bytes(&fitted.layout, &[block.text], sample.len() as u64);
}
