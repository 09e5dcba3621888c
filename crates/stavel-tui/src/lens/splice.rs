//! Splice: lanes, the result, seams, and how the sources agree.

use stavel_core::model::time::wall;
use stavel_core::model::{Micros, SeriesName, Span};
use stavel_core::recipe::{SpliceStep, Step};
use stavel_core::splice::{Ask, Judged, Level, Levels, Overlap, Piece, Rule, Seam, splice_rows};
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
    judged: Vec<Judged>,
    usual_step: i64,
    /// The length of a bar.
    bar: Micros,
    overlap: Overlap,
    levels: Levels,
}

#[derive(Default)]
pub struct State {
    pub proposal: Slot<Proposal>,
    rule: usize,
    level: Level,
    carry_spread: bool,
}

impl State {
    fn ask(&self) -> Ask {
        let rules = [Rule::Span, Rule::Holes, Rule::Grade];
        let rule = rules[self.rule % rules.len()].clone();
        Ask { rule, level: self.level, carry_spread: self.carry_spread }
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
    let ask = app.splice.ask();
    let key = format!("{editions:?} {ask:?}");
    app.splice.proposal.want(
        key,
        &app.threads,
        |app| Some(&mut app.splice.proposal),
        move |shelf, job| {
            let (like, spliced, levels) = splice_rows(shelf, &names, &ask, job)?;
            Ok(Proposal {
                levels,
                judged: spliced.judged,
                bar: like.frame.length(),
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
        Act::Rule => app.splice.rule += 1,
        Act::Level => {
            app.splice.level = match app.splice.level {
                Level::None => Level::Shift,
                Level::Shift => Level::Ratio,
                Level::Ratio => Level::None,
            }
        }
        Act::CarrySpread => app.splice.carry_spread = !app.splice.carry_spread,
        Act::Accept => match app.splice.proposal.get() {
            Some(p) if sources(app).iter().all(|s| !s.is_afloat()) => {
                let series = p.sources.clone();
                let Ask { rule, level, carry_spread } = app.splice.ask();
                app.start(Step::Splice(SpliceStep {
                    rule,
                    level,
                    carry_spread,
                    ..SpliceStep::of(series, INTO)
                }));
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
    for (i, seam) in p.seams.iter().enumerate().take(6) {
        let text = format!(
            "seam {}   {} → {}   step {}, usual {} points",
            wall(seam.at),
            p.sources[seam.before].short(),
            p.sources[seam.after].short(),
            seam.step,
            p.usual_step
        );
        let judged = p.judged.get(i);
        let trouble = judged.and_then(|j| j.trouble(seam, p.usual_step, p.bar));
        let calm = trouble.is_none();
        canvas.put(
            1,
            y,
            if calm { "┃" } else { "▲" },
            theme::words().fg(if calm { theme::GOOD } else { theme::WRONG }),
        );
        let x = canvas.put(3, y, &text, theme::words());
        if let Some(trouble) = trouble {
            let better = judged.and_then(|j| j.better).map(|b| format!("; calmer at {}", wall(b)));
            canvas.put(
                x + 3,
                y,
                &format!("{trouble}{}", better.unwrap_or_default()),
                theme::words().fg(theme::RISING),
            );
        }
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
    let ask = app.splice.ask();
    let mut out = vec![Fact::heading(format!("rule {}", ask.rule))];
    out.push(Fact::words(match ask.rule {
        Rule::Span => {
            "The first source owns all from its first to its last row; the next only what lies outside."
        }
        Rule::Grade => "Each month belongs to the source that is the cleaner in it.",
        _ => "As span, and the next source also fills open minutes that the first lacks.",
    }));
    out.push(Fact::words("r: the next rule"));
    level_facts(app, &ask, &mut out);
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

/// How the later sources lie to the first, and what is done about it.
fn level_facts(app: &App, ask: &Ask, out: &mut Vec<Fact>) {
    out.push(Fact::Gap);
    out.push(Fact::heading(format!("level {}", ask.level)));
    if let Some(p) = app.splice.proposal.get() {
        for (gap, series) in p.levels.gaps.iter().zip(&p.sources[1..]) {
            let told = match gap {
                None => "no time in common".to_owned(),
                Some(gap) => match gap.side {
                    Some(side) => side.in_words(&p.sources[0].short(), &series.short()),
                    None if gap.median == 0 => {
                        format!("{} is level with {}", series.short(), p.sources[0].short())
                    }
                    None => format!(
                        "{} lies {:+} points from {}",
                        series.short(),
                        gap.median,
                        p.sources[0].short()
                    ),
                },
            };
            out.push(Fact::words(told));
        }
        if p.levels.carried > 0 {
            out.push(Fact::words(format!("{} rows get a spread", thousands(p.levels.carried))));
        }
    }
    out.push(Fact::words("l: none, shift or ratio"));
    out.push(Fact::words(if ask.carry_spread { "c: spreads are carried" } else { "c: carry spreads" }));
}
