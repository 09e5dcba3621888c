//! Splice: lanes, the result, seams, and how the sources agree.

use stavel_core::model::time::wall;
use stavel_core::model::{SeriesName, Span};
use stavel_core::recipe::{SpliceStep, Step};
use stavel_core::splice::{Overlap, Piece, Rule, Seam, splice_rows};
use stavel_core::store::SeriesInfo;

use super::Fact;
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::{Canvas, thousands};
use crate::jobs::Slot;
use crate::spine;
use crate::theme;

/// What a join would give.
pub struct Proposal {
    sources: Vec<SeriesName>,
    rows: u64,
    pieces: Vec<Piece>,
    seams: Vec<Seam>,
    usual_step: i64,
    overlap: Overlap,
}

#[derive(Default)]
pub struct State {
    pub proposal: Slot<Proposal>,
    holes: bool,
}

impl State {
    fn rule(&self) -> Rule {
        if self.holes { Rule::Holes } else { Rule::Span }
    }
}

/// The source that results go to.
const INTO: &str = "joined";

/// The series that can be joined, the shortest history first: a broker's own comes before a vendor's.
fn sources(app: &App) -> Vec<&SeriesInfo> {
    let bars = |s: &&SeriesInfo| !s.name.frame.is_ticks() && s.name.source != INTO;
    let mut all: Vec<&SeriesInfo> = app.snapshot.roots_of(app.instrument()).filter(bars).collect();
    let frame = all.iter().map(|s| s.name.frame).min();
    all.retain(|s| Some(s.name.frame) == frame);
    all.sort_by_key(|s| (s.edition.last - s.edition.first, s.name.source.clone()));
    all
}

pub fn want(app: &mut App) {
    let sources = sources(app);
    if sources.len() < 2 || sources.iter().any(|s| s.is_afloat()) {
        return;
    }
    let names: Vec<SeriesName> = sources.iter().map(|s| s.name.clone()).collect();
    let editions: Vec<i64> = sources.iter().map(|s| s.edition.id).collect();
    let rule = app.splice.rule();
    let key = format!("{editions:?} {rule}");
    app.splice.proposal.want(
        key,
        &app.threads,
        |app| Some(&mut app.splice.proposal),
        move |shelf, job| {
            let (_, spliced) = splice_rows(shelf, &names, rule, job)?;
            Ok(Proposal {
                sources: names,
                rows: spliced.rows.len() as u64,
                pieces: spliced.pieces,
                seams: spliced.seams,
                usual_step: spliced.usual_step,
                overlap: spliced.overlap,
            })
        },
    );
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::Rule => app.splice.holes = !app.splice.holes,
        Act::Accept => match app.splice.proposal.get() {
            Some(p) if sources(app).iter().all(|s| !s.is_afloat()) => {
                let series = p.sources.clone();
                let rule = app.splice.rule();
                app.start(Step::Splice(SpliceStep { series, into: INTO.into(), rule }));
            }
            _ => app.say("there is nothing to join yet", Tone::Plain),
        },
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let sources = sources(app);
    if sources.len() < 2 {
        canvas.put(
            2,
            1,
            "A splice needs two sources of bars of one instrument; here is one.",
            theme::words(),
        );
        canvas.put(2, 2, "Take in another source (1, then i).", theme::faint());
        return;
    }
    if let Some(afloat) = sources.iter().find(|s| s.is_afloat()) {
        canvas.put(
            2,
            1,
            &format!("{} is afloat: its clock has to be found first.", afloat.name.short()),
            theme::words(),
        );
        canvas.pieces(2, 2, &[("4", theme::strong()), (" opens align", theme::faint())]);
        return;
    }
    let whole = app.whole();
    let left = 20u16;
    let columns = canvas.width().saturating_sub(left + 2);
    canvas.put(1, 0, "lanes", theme::words());
    for (column, label) in spine::labels(whole, columns) {
        canvas.put(left + column, 0, &label, theme::faint());
    }
    for (i, info) in sources.iter().enumerate() {
        let colour = app.snapshot.colour_of(&info.name);
        let y = i as u16 + 1;
        canvas.put(1, y, &format!("{} {}", i + 1, info.name.short()), theme::words().fg(colour));
        spine::strip(app, info, whole, columns, |c, mark| {
            canvas.put(left + c, y, mark, theme::words().fg(colour));
        });
    }
    let mut y = sources.len() as u16 + 2;
    match &app.splice.proposal.value {
        None => {
            canvas.put(1, y, "joining, to see …", theme::faint());
        }
        Some(Err(err)) => {
            canvas.paragraph(y, &err.to_string(), theme::words().fg(theme::WRONG));
        }
        Some(Ok(p)) => {
            draw_result(app, p, whole, left, columns, y, &mut canvas);
            y += 3;
            let (width, height) = (canvas.width(), canvas.height().saturating_sub(y));
            draw_proposal(app, p, canvas.part(0, y, width, height));
        }
    }
}

fn draw_result(
    app: &App,
    p: &Proposal,
    whole: Span,
    left: u16,
    columns: u16,
    y: u16,
    canvas: &mut Canvas<'_>,
) {
    canvas.put(1, y, &format!("= {INTO}"), theme::strong());
    for column in 0..columns {
        let t = spine::time_at(whole, columns, column);
        let until = spine::time_at(whole, columns, column + 1);
        let owner = p.pieces.iter().find(|piece| piece.to >= t && piece.from < until);
        if let Some(piece) = owner {
            let colour = app.snapshot.colour_of(&p.sources[piece.source]);
            canvas.put(left + column, y, "█", theme::words().fg(colour));
        }
    }
    let span = whole.length().max(1) as f64;
    for seam in p.seams.iter().take(200) {
        let column = ((seam.at - whole.from) as f64 / span * columns as f64) as u16;
        canvas.put(left + column.min(columns.saturating_sub(1)), y, "┃", theme::strong());
    }
}

fn draw_proposal(app: &App, p: &Proposal, mut canvas: Canvas<'_>) {
    let mut y = 0;
    for seam in p.seams.iter().take(6) {
        let text = format!(
            "seam {}   {} → {}   step {}, usual {} points",
            wall(seam.at),
            p.sources[seam.before].short(),
            p.sources[seam.after].short(),
            seam.step,
            p.usual_step
        );
        let calm = seam.step.abs() <= p.usual_step * 5 + 2;
        canvas.put(
            1,
            y,
            if calm { "┃" } else { "▲" },
            theme::words().fg(if calm { theme::GOOD } else { theme::WRONG }),
        );
        canvas.put(3, y, &text, theme::words());
        y += 1;
    }
    if p.seams.len() > 6 {
        canvas.put(3, y, &format!("and {} more seams", p.seams.len() - 6), theme::faint());
        y += 1;
    }
    y += 1;
    let o = &p.overlap;
    let share = |n: u64| n as f64 * 100.0 / o.rows.max(1) as f64;
    let head = format!(
        "overlap {} rows: equal {:.0} %, median {} and p95 {} points apart, changes correlate {:.2}",
        thousands(o.rows),
        share(o.equal),
        o.median_diff,
        o.p95_diff,
        o.correlation
    );
    canvas.put(1, y, &head, theme::words());
    let most = o.histogram.iter().copied().max().unwrap_or(1).max(1);
    let room = canvas.width().saturating_sub(34) as u64;
    for (i, n) in o.histogram.iter().enumerate() {
        y += 1;
        let points = i as i64 - 3;
        let label = match points {
            -3 => "-3 or less".to_owned(),
            3 => "+3 or more".to_owned(),
            0 => "equal".to_owned(),
            1 | -1 => format!("{points:+} point"),
            n => format!("{n:+} points"),
        };
        canvas.put_right(16, y, &label, theme::faint());
        canvas.put(18, y, &"█".repeat((n * room / most) as usize), theme::words().fg(theme::source(2)));
        canvas.put(19 + (n * room / most) as u16, y, &format!("{:.1} %", share(*n)), theme::faint());
    }
    y += 2;
    let mut pieces = vec![("rows ".to_owned(), theme::faint())];
    let mut sum = 0;
    for (i, source) in p.sources.iter().enumerate() {
        let rows: u64 = p.pieces.iter().filter(|x| x.source == i).map(|x| x.rows).sum();
        sum += rows;
        let plus = if i == 0 { "" } else { " + " };
        let colour = app.snapshot.colour_of(source);
        pieces.push((format!("{plus}{} {}", source.short(), thousands(rows)), theme::words().fg(colour)));
    }
    pieces.push((format!(" = {}   ", thousands(p.rows)), theme::strong()));
    let adds = sum == p.rows;
    pieces.push((
        if adds { "✓ adds up".into() } else { "✗ does not add up".into() },
        theme::words().fg(if adds { theme::GOOD } else { theme::WRONG }),
    ));
    canvas.pieces(1, y, &pieces);
}

pub fn facts(app: &App) -> Vec<Fact> {
    let rule = app.splice.rule();
    let mut out = vec![Fact::heading(format!("rule {rule}"))];
    out.push(Fact::words(match rule {
        Rule::Span => {
            "The first source owns all from its first to its last row; the next only what lies outside."
        }
        _ => "As span, and the next source also fills open minutes that the first lacks.",
    }));
    out.push(Fact::words("r: the other rule"));
    out.push(Fact::Gap);
    out.push(Fact::heading("order"));
    for (i, s) in sources(app).iter().enumerate() {
        out.push(Fact::words(format!("{} {}", i + 1, s.name.short())));
    }
    out.push(Fact::words("The shorter history comes first: what the broker itself recorded is worth most."));
    out.push(Fact::Gap);
    let joined =
        app.snapshot.series_of(app.instrument()).find(|s| s.name.source == INTO && s.edition.act == "splice");
    match joined {
        None => out.push(Fact::words("not written yet: a joins them")),
        Some(info) => {
            let ids: Vec<i64> = info.edition.detail["from"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|f| f["edition"].as_i64())
                .collect();
            let fresh = sources(app).iter().all(|s| ids.contains(&s.edition.id));
            out.push(Fact::words(format!("{} is edition {}", info.name.short(), info.edition.number)));
            out.push(Fact::words(if fresh {
                "it is up to date"
            } else {
                "▲ a source has changed since: a joins again"
            }));
        }
    }
    out
}
