//! A series held against another: agreement by month, the worst days.

use stavel_core::check::{Agreement, Crossed};
use stavel_core::model::time::date;

use crate::canvas::{Canvas, cut_to, thousands};
use crate::jobs::Slot;
use crate::theme;

/// `mine` is the source of the series that is checked, `at` the place of the worst day looked at.
pub fn draw(crossed: &Slot<Crossed>, mine: &str, at: usize, mut canvas: Canvas<'_>) {
    let c = match &crossed.value {
        Some(Ok(c)) => c,
        Some(Err(err)) => {
            canvas.paragraph(0, &err.to_string(), theme::words().fg(theme::WRONG));
            return;
        }
        None => {
            canvas.put(1, 0, "holding it against another series …", theme::faint());
            return;
        }
    };
    let title = format!(
        "against {} at {}: usually {} points apart, more than {} disagrees",
        c.other.name.short(),
        c.frame,
        c.cross.level,
        c.cross.tolerance
    );
    canvas.put(1, 0, &title, theme::words());
    let head = format!(
        "{:<10} {:>9} {:>8} {:>6} {:>9} {:>10}",
        "",
        "both",
        "equal",
        "apart",
        cut_to(&format!("only {mine}"), 10),
        cut_to(&format!("only {}", c.other.name.source), 10)
    );
    canvas.put(1, 1, &head, theme::faint());
    let rows = canvas.height().saturating_sub(2) as usize;
    let months = &c.cross.months;
    for (i, ((year, month), a)) in months.iter().skip(months.len().saturating_sub(rows)).enumerate() {
        line(&mut canvas, 1, i as u16 + 2, &format!("{year:04}-{month:02}"), a);
    }
    let right = 66u16;
    if canvas.width() > right + 40 {
        canvas.pieces(
            right,
            1,
            &[("worst days  ", theme::faint()), ("↑↓ Enter: both on the chart", theme::faint())],
        );
        for (i, (day, a)) in c.cross.worst_days.iter().take(rows).enumerate() {
            let text = format!("{} apart, {} on one side only", a.apart, a.only_here + a.only_there);
            let style = if i == at { theme::chosen() } else { theme::words() };
            let x = canvas.put(right, i as u16 + 2, &date(*day), style);
            canvas.put(x + 2, i as u16 + 2, &text, theme::faint());
        }
    }
}

fn line(canvas: &mut Canvas<'_>, x: u16, y: u16, name: &str, a: &Agreement) {
    let equal = a.equal as f64 * 100.0 / a.both.max(1) as f64;
    let text = format!(
        "{name:<10} {:>9} {equal:>6.1} % {:>6} {:>9} {:>10}",
        thousands(a.both),
        a.apart,
        thousands(a.only_here),
        thousands(a.only_there)
    );
    let odd = (a.apart + a.only_here + a.only_there) * 100 > a.both;
    canvas.put(x, y, &text, if odd { theme::words().fg(theme::RISING) } else { theme::words() });
}
