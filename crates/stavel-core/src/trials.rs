//! Everything that is read from outside, given any bytes whatever: the fuzz targets in `fuzz/` call these, and a
//! test replays what they found.

pub use crate::intake::trials::{document, layout, text};
use crate::intake::{ClockHint, Hints};
use crate::job::Job;
use crate::model::time::{DAY, HOUR};
use crate::model::{Clock, SessionWeek, Span};
use crate::store::Shelf;

/// A file of orders.
pub fn orders(data: &[u8]) {
    if let Ok(orders) = crate::rehearse::orders_in(data, "orders.csv") {
        assert!(orders.is_sorted_by_key(|o| o.time));
        // Whatever prices they name, they fit the decimals that are played or are refused.
        let _ = orders.iter().map(|order| order.ticket(0, 5)).collect::<Vec<_>>();
    }
}

/// A clock and a time of its wall: what the wall shows leads back to the moment. The same text as a session week.
pub fn clock(data: &[u8]) {
    let Some((time, name)) = data.split_first_chunk::<8>() else { return };
    if let Ok(week) = String::from_utf8_lossy(name).parse::<SessionWeek>() {
        assert!(week.to_string().parse::<SessionWeek>().is_ok_and(|again| again == week), "{week}");
    }
    let Ok(clock) = String::from_utf8_lossy(name).parse::<Clock>() else { return };
    assert!(clock.to_string().parse::<Clock>().is_ok_and(|again| again == clock), "{clock}");
    // Times of the years 1900 to 2200.
    let t = i64::from_le_bytes(*time).rem_euclid(110_000 * DAY) - 25_567 * DAY;
    let wall = clock.to_wall(t);
    let back = clock.from_wall(wall);
    let is_it = match back {
        crate::model::Wall::Once(utc) => utc == t,
        crate::model::Wall::Twice { first, second } => first == t || second == t,
        crate::model::Wall::Never { .. } => false,
    };
    assert!(is_it, "{clock}: {t} shows {wall}, which is {back:?}");
    if let Some((span, offset)) = clock.plain_span(wall) {
        assert!(span.holds(wall) && wall - offset == t);
    }
    let _ = (clock.day_start(clock.day_of(t)), clock.in_words(), clock.shifted(HOUR));
}

/// A whole file of any kind: looked at, taken in and checked. The first byte chooses its name and what is said.
pub fn file(data: &[u8]) {
    const NAMES: [&str; 8] = ["csv", "txt", "json", "ndjson", "html", "xlsx", "parquet", "csv.gz"];
    let Some((choice, bytes)) = data.split_first() else { return };
    let Ok(dir) = tempfile::tempdir() else { return };
    let path = dir.path().join(format!("NOKSEK_q.{}", NAMES[*choice as usize % NAMES.len()]));
    if std::fs::write(&path, bytes).is_err() {
        return;
    }
    let Ok(mut shelf) = Shelf::open_to_write(dir.path().join("shelf").as_path()) else { return };
    let clock = if choice & 64 == 0 { ClockHint::Afloat } else { ClockHint::Known(Clock::utc()) };
    let hints = Hints { source: "quill".into(), clock: Some(clock), ..Hints::default() };
    let Ok(planned) = crate::intake::plan(&shelf, &[path], &hints) else { return };
    let job = Job::unwatched();
    for plan in &planned.plans {
        for taken in crate::intake::take(&mut shelf, plan, &job).unwrap_or_default() {
            assert_eq!(taken.rows_read, taken.rows_kept + taken.rows_rejected + taken.rows_already_there);
            if let Ok(name) = taken.series.parse() {
                let _ = crate::check::check_series(&shelf, &name, Span::ALL, &job);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    /// The name of a target and what it does with bytes.
    type Target = (&'static str, fn(&[u8]));

    /// What a target begins with is understood: else it would try next to nothing.
    #[test]
    fn the_seeds_are_layouts_clocks_and_orders() {
        let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
        let read = |name: &str| std::fs::read(seeds.join(name)).unwrap();
        let layout = read("layout/plain");
        let toml = layout.split(|b| *b == 0).next().unwrap();
        crate::model::Layout::from_toml(std::str::from_utf8(toml).unwrap()).unwrap();
        for clock in ["clock/zone", "clock/changed"] {
            String::from_utf8(read(clock)[8..].to_vec()).unwrap().parse::<Clock>().unwrap();
        }
        String::from_utf8(read("clock/week")[8..].to_vec()).unwrap().parse::<SessionWeek>().unwrap();
        assert_eq!(crate::rehearse::orders_in(&read("orders/plain")[..], "orders.csv").unwrap().len(), 2);
    }

    /// What the fuzz targets found, kept as files: each is read without a panic now.
    #[test]
    fn what_fuzzing_found_is_read_without_a_panic() {
        let found = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/found");
        let targets: [Target; 6] = [
            ("text", text),
            ("layout", layout),
            ("document", document),
            ("orders", orders),
            ("clock", clock),
            ("file", file),
        ];
        let mut replayed = 0;
        for (target, run) in targets {
            for entry in std::fs::read_dir(found.join(target)).unwrap() {
                run(&std::fs::read(entry.unwrap().path()).unwrap());
                replayed += 1;
            }
        }
        assert!(replayed >= 6, "every target keeps a file at least: {replayed}");
    }
}
