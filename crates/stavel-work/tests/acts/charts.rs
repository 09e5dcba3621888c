//! Charts drawn from bars that were kept are those drawn from the rows.

use stavel_core::job::Job;
use stavel_core::model::{Field, Frame, SeriesName, Span};
use stavel_work::{ChartRoom, ChartSource, KeptBars, bars_for_chart};

use crate::Desk;

/// Ticks every 17 seconds over some weeks of 2024 with the clock change of New York, closed on weekends.
fn ticks() -> String {
    let (mut bid, mut out) = (102_000i64, String::from("Time (UTC),Bid,Ask,Bid volume,Ask volume\n"));
    let day = stavel_core::model::time::DAY;
    let mut time = stavel_core::model::time::parse("2024-03-04").unwrap();
    while time < stavel_core::model::time::parse("2024-03-23").unwrap() {
        if (time / day + 3) % 7 < 5 {
            bid += (time / 17_000_000 * 7919) % 9 - 4;
            let price = |points: i64| format!("{}.{:05}", points / 100_000, points % 100_000);
            let wall = stavel_core::model::time::wall(time);
            out += &format!("{wall},{},{},1,2\n", price(bid), price(bid + 14));
        }
        time += 17_000_000;
    }
    out
}

#[test]
fn kept_bars_draw_the_same_chart_as_the_ticks() {
    let mut desk = Desk::new();
    std::fs::write(desk.path("NOKSEK.csv"), ticks()).unwrap();
    desk.done("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'quill'\nclock = 'UTC'");
    // Days that begin at a quarter of an hour: what is kept must be short enough for them.
    desk.done("act = 'compose'\nname = 'NOKSEK'\n[set]\nclock = 'UTC+05:45'");
    let name: SeriesName = "NOKSEK@quill:ticks".parse().unwrap();
    let (info, job) = (desk.shelf.find(&name).unwrap(), Job::unwatched());
    let kept = KeptBars::read(&desk.shelf, &info, &job).unwrap();
    let prices = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    let march = |day: u32| stavel_core::model::time::parse(&format!("2024-03-{day:02}")).unwrap();
    // Its ends cut bars of every length: nothing behind them is in the last.
    let odd = Span::new(march(5) + 40_000_000_000, march(12) + 47_123_000_000);
    for window in [Span::ALL, Span::new(march(6), march(14)), Span::new(march(9), march(10)), odd] {
        let rooms = ["1m", "15m", "45m", "1h", "4h", "1d", "1w"].map(|f| f.parse::<Frame>().unwrap());
        let rooms =
            rooms.map(ChartRoom::Frame).into_iter().chain([ChartRoom::Columns(120), ChartRoom::AtMost(20)]);
        for room in rooms {
            let draw = |kept| {
                let source = ChartSource { series: &info, kept };
                bars_for_chart(&desk.shelf, source, window, room, 5, &job).unwrap()
            };
            let (of_rows, of_kept) = (draw(None), draw(Some(&kept)));
            let column = |bars: &stavel_core::model::Columns, f| bars.column(f).to_vec();
            assert_eq!((of_rows.frame, of_rows.lead), (of_kept.frame, of_kept.lead), "{window:?} {room:?}");
            assert_eq!(of_rows.bars.time, of_kept.bars.time, "{window:?} {room:?}");
            for field in prices {
                assert_eq!(column(&of_rows.bars, field), column(&of_kept.bars, field), "{field:?} {room:?}");
            }
        }
    }
    // They pay where very many rows would be read, never for bars or a day of ticks.
    let mut long = info.clone();
    long.edition.rows = 100_000_000;
    assert!(KeptBars::pay_for(&long, Span::ALL) && !KeptBars::pay_for(&info, Span::ALL));
    assert!(!KeptBars::pay_for(&long, Span::new(march(6), march(6) + 3_600_000_000)));
    long.edition.clock = None;
    assert!(!KeptBars::pay_for(&long, Span::ALL), "an afloat series has no days of its own");
}
