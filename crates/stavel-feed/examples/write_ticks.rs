//! Writes a large made-up file of ticks, to measure intake with:
//! `cargo run --release -p stavel-feed --example write_ticks -- ROWS FILE [day-first]`.

use std::io::Write;

use stavel_core::model::price::push_scaled;
use stavel_core::model::time::{DAY, civil_from_days, day_of, parse};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [rows, path, rest @ ..] = words.as_slice() else {
        return Err("say ROWS and FILE, and perhaps day-first".into());
    };
    let day_first = rest.first().is_some_and(|w| w == "day-first");
    let mut out = std::io::BufWriter::with_capacity(1 << 20, std::fs::File::create(path)?);
    let mut rng = fastrand::Rng::with_seed(1);
    let (mut t, mut bid) = (parse("2024-01-01")?, 1_149_992);
    let mut line = Vec::with_capacity(64);
    for _ in 0..rows.parse::<u64>()? {
        t += rng.i64(1..=900) * 1000;
        bid += rng.i64(-3..=3);
        line.clear();
        let ((year, month, day), ms) = (civil_from_days(day_of(t)), t.rem_euclid(DAY) / 1000);
        match day_first {
            true => write!(line, "{day:02}.{month:02}.{year} ")?,
            false => write!(line, "{year}-{month:02}-{day:02} ")?,
        }
        write!(line, "{:02}:{:02}:{:02}.{:03}", ms / 3_600_000, ms / 60_000 % 60, ms / 1000 % 60, ms % 1000)?;
        let numbers = [(bid, 5), (bid + rng.i64(8..=25), 5), (rng.i64(1..=90), 1), (rng.i64(1..=90), 1)];
        for (value, decimals) in numbers {
            line.push(b',');
            push_scaled(&mut line, value, decimals);
        }
        line.push(b'\n');
        out.write_all(&line)?;
    }
    out.flush()?;
    Ok(())
}
