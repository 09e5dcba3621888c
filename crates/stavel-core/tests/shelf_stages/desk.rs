//! A shelf to work on, and made-up rows for it.

use stavel_core::model::time::{MINUTE, parse};
use stavel_core::model::{Columns, Field, Made, Micros, Provenance, Scale, SeriesName, Session, Span};
use stavel_core::store::{Origin, Shelf};

pub const BARS: [Field; 6] =
    [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
pub const QUOTES: [Field; 4] = [Field::Bid, Field::Ask, Field::BidVolume, Field::AskVolume];
pub const SCALE: Scale = Scale { price: 5, volume: 1 };

pub fn desk() -> (tempfile::TempDir, Shelf) {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open_to_write(dir.path()).unwrap();
    (dir, shelf)
}

pub fn name(text: &str) -> SeriesName {
    text.parse().unwrap()
}

pub fn span(from: &str, to: &str) -> Span {
    Span::new(parse(from).unwrap(), parse(to).unwrap())
}

pub fn forex() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        ..Session::always()
    }
}

/// Ticks through the session, one every twenty seconds; the walk depends on the seed alone.
pub fn ticks(span: Span, seed: u64) -> Columns {
    ticks_each(20_000_000, span, seed)
}

/// The same, one in so many microseconds.
pub fn ticks_each(step: usize, span: Span, seed: u64) -> Columns {
    let mut rows = Columns::empty(&QUOTES, SCALE);
    let mut rng = fastrand::Rng::with_seed(seed);
    let mut bid = 102_000;
    for open in forex().open_spans(span) {
        for t in (open.from..open.to).step_by(step) {
            bid += rng.i64(-5..=5);
            rows.time.push(t + rng.i64(0..step as i64 / 1000 - 1) * 1000);
            [bid, bid + rng.i64(8..20), rng.i64(1..50), rng.i64(1..50)]
                .into_iter()
                .zip(&mut rows.data)
                .for_each(|(v, c)| c.push(v));
        }
    }
    rows
}

/// The plain minutes of ticks, by grouping.
pub fn minutes_of(ticks: &Columns) -> Columns {
    let mut rows = Columns::empty(&BARS, SCALE);
    let minute = |t: &Micros| t.div_euclid(MINUTE);
    let mut from = 0;
    for run in ticks.time.chunk_by(|a, b| minute(a) == minute(b)) {
        let at = from..from + run.len();
        from = at.end;
        let (bid, ask) = (&ticks.column(Field::Bid)[at.clone()], &ticks.column(Field::Ask)[at.clone()]);
        let spreads: Vec<i64> = bid.iter().zip(ask).map(|(b, a)| a - b).collect();
        let mean = (spreads.iter().sum::<i64>() + spreads.len() as i64 / 2) / spreads.len() as i64;
        let volume = ticks.column(Field::BidVolume)[at].iter().sum();
        let values = [
            bid[0],
            *bid.iter().max().unwrap(),
            *bid.iter().min().unwrap(),
            bid[bid.len() - 1],
            volume,
            mean,
        ];
        rows.time.push(minute(&run[0]) * MINUTE);
        rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
    }
    rows
}

pub fn put(shelf: &mut Shelf, series: &str, rows: &Columns, clock: Option<&str>) {
    let origin = Origin {
        provenance: Provenance::of(Made::Unknown),
        clock: clock.map(|c| c.parse().unwrap()),
        fields: rows.fields.clone(),
        scale: rows.scale,
    };
    let mut draft = shelf.draft(&name(series), origin).unwrap();
    draft.push(rows.clone()).unwrap();
    draft.commit().unwrap();
}

pub fn read(shelf: &Shelf, series: &str) -> Columns {
    let info = shelf.find(&name(series)).unwrap();
    shelf.read(&info.edition, Span::ALL).unwrap()
}
