//! Bars in open time that have no rows, put in flat.

use super::Grid;
use crate::model::columns::FILLED;
use crate::model::session::OpenHours;
use crate::model::{ABSENT, BarView, Columns, Field, Frame, Micros, Session, Span};

/// The bars with a flat one wherever the market was open and had no rows: all its prices are the close before it, its
/// volume is 0 (nothing was traded), its spread absent, its origin marked as filled. Holidays and hours outside the
/// session stay empty. Gives how many were put in.
pub fn filled(bars: Columns, frame: Frame, session: &Session) -> (Columns, u64) {
    let Some((first, last)) = bars.ends() else { return (bars, 0) };
    let mut fields = bars.fields.clone();
    if !fields.contains(&Field::Origin) {
        fields.push(Field::Origin);
    }
    let bars = bars.with_fields(&fields);
    let mut out = Columns::empty(&fields, bars.scale);
    let mut grid = Grid::new(frame, session);
    // The last bar may end after its own time.
    let open = OpenHours::new(session, Span::new(first, last + frame.length().max(1)));
    let view = BarView::new(&bars);
    let mut count = 0;
    let mut before: Option<i64> = None;
    for i in 0..bars.len() {
        if let (Some(close), Some(last)) = (before, out.time.last().copied()) {
            for stamp in between(&mut grid, open.spans(), last, bars.time[i]) {
                put(&mut out, stamp, close);
                count += 1;
            }
        }
        out.push_from(&bars, i);
        before = view.bar(i).map(|bar| bar.close).or(before);
    }
    (out, count)
}

/// The times of the bars in open time after one bar and before another.
fn between(grid: &mut Grid, open: &[Span], after: Micros, until: Micros) -> Vec<Micros> {
    let mut out = Vec::new();
    let mut from = grid.bar_at(after).span.to;
    let first = open.partition_point(|s| s.to <= from);
    for span in &open[first..] {
        from = from.max(span.from);
        while from < span.to.min(until) {
            let bar = grid.bar_at(from);
            if bar.stamp >= until {
                return out;
            }
            if bar.stamp > after {
                out.push(bar.stamp);
            }
            from = bar.span.to.max(from + 1);
        }
    }
    out
}

fn put(out: &mut Columns, stamp: Micros, close: i64) {
    out.time.push(stamp);
    for (field, column) in out.fields.iter().zip(&mut out.data) {
        column.push(match field {
            f if f.is_of_a_bar() => close,
            Field::Origin => FILLED,
            Field::Volume | Field::BidVolume | Field::AskVolume | Field::TickCount => 0,
            _ => ABSENT,
        });
    }
}
