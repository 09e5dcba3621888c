//! The picture of a splice: lanes, the result, its seams, how the sources agree, and the rows at a seam.

use stavel_core::model::time::{MINUTE, wall};
use stavel_core::model::{Micros, Span};
use stavel_core::splice::{CutTrial, JudgedSeam, Seam, SpliceRule, claims};
use stavel_core::store::SeriesInfo;

use super::splice_state::{INTO, Proposal, SpliceLens};
use super::strokes::{draw_rows, scale_of};
use stavel_work::step_in_words;

use crate::canvas::{Canvas, scroll, thousands};
use crate::spine;
use crate::theme;
use crate::view::View;

/// Columns left of the lanes, for names.
const LEFT: u16 = 20;
/// Seams listed at once.
const LISTED: usize = 6;

/// The picture of the lens.
pub fn draw(lens: &SpliceLens, view: &View<'_>, mut canvas: Canvas<'_>) {
    let sources = lens.sources(view);
    if sources.len() < 2 {
        let text = "A splice needs two sources of bars of one instrument; here is one.";
        canvas.put(2, 1, text, theme::words());
        canvas.put(2, 2, "Take in another source (1, then i).", theme::faint());
        return;
    }
    if let Some(afloat) = sources.iter().find(|s| s.is_afloat()) {
        let text = format!("{} is afloat: its clock has to be found first.", afloat.name.short());
        canvas.put(2, 1, &text, theme::words());
        canvas.pieces(2, 2, &[("4", theme::strong()), (" opens align", theme::faint())]);
        return;
    }
    let columns = canvas.width().saturating_sub(LEFT + 2);
    draw_lanes(lens, view, &sources, columns, &mut canvas);
    let y = sources.len() as u16 + 2;
    match &lens.proposal.value {
        None => {
            canvas.put(1, y, "joining, to see …", theme::faint());
        }
        Some(Err(err)) => {
            canvas.paragraph(y, &err.to_string(), theme::words().fg(theme::WRONG));
        }
        Some(Ok(p)) => {
            let trial = lens.trial.get().filter(|_| lens.cut().is_some());
            let trial = trial.map(std::sync::Arc::as_ref);
            draw_result(lens, view, p, columns, y, &mut canvas);
            let (width, height) = (canvas.width(), canvas.height().saturating_sub(y + 2));
            draw_proposal(lens, view, p, trial, canvas.part(0, y + 2, width, height));
        }
    }
}

fn draw_lanes(
    lens: &SpliceLens,
    view: &View<'_>,
    sources: &[&SeriesInfo],
    columns: u16,
    canvas: &mut Canvas<'_>,
) {
    let whole = view.whole();
    canvas.put(1, 0, &format!("rule {}", lens.choice.word()), theme::words());
    for (column, label) in spine::labels(whole, columns) {
        canvas.put(LEFT + column, 0, &label, theme::faint());
    }
    for (i, info) in sources.iter().enumerate() {
        let colour = view.snapshot.colour_of(&info.name);
        let y = i as u16 + 1;
        canvas.put(1, y, &format!("{} {}", i + 1, info.name.short()), theme::words().fg(colour));
        spine::strip(view.snapshot, info, whole, columns, |c, mark| {
            canvas.put(LEFT + c, y, mark, theme::words().fg(colour));
        });
    }
}

/// Who serves which time, and the seams between.
fn draw_result(
    lens: &SpliceLens,
    view: &View<'_>,
    p: &Proposal,
    columns: u16,
    y: u16,
    canvas: &mut Canvas<'_>,
) {
    let whole = view.whole();
    canvas.put(1, y, &format!("= {INTO}"), theme::strong());
    let (pieces, seams): (Vec<(Span, usize)>, Vec<Micros>) = match lens.cut() {
        Some(at) => {
            let plan = &p.prepared.plan;
            let reaches: Vec<Span> = plan.sources.iter().map(|s| s.span).collect();
            let served = claims(&SpliceRule::Cut(at), &reaches, &[], plan.session());
            let pieces = served.iter().enumerate().flat_map(|(s, spans)| spans.iter().map(move |x| (*x, s)));
            (pieces.collect(), vec![at])
        }
        None => (
            p.told.pieces.iter().map(|x| (Span::new(x.from, x.to + 1), x.source)).collect(),
            p.told.seams.iter().take(200).map(|s| s.at).collect(),
        ),
    };
    for column in 0..columns {
        let from = spine::time_at(whole, columns, column);
        let slot = Span::new(from, spine::time_at(whole, columns, column + 1));
        if let Some((_, source)) = pieces.iter().find(|(span, _)| span.overlap(&slot).is_some()) {
            let colour = view.snapshot.colour_of(&p.sources[*source]);
            canvas.put(LEFT + column, y, "█", theme::words().fg(colour));
        }
    }
    for at in seams {
        let share = (at - whole.from) as f64 / whole.length().max(1) as f64;
        let column = (share * columns as f64) as u16;
        canvas.put(LEFT + column.min(columns.saturating_sub(1)), y, "┃", theme::strong());
    }
}

fn draw_proposal(
    lens: &SpliceLens,
    view: &View<'_>,
    p: &Proposal,
    trial: Option<&CutTrial>,
    mut canvas: Canvas<'_>,
) {
    let mut y = draw_seams(lens, p, trial, &mut canvas) + 1;
    draw_sum(view, p, trial, y, &mut canvas);
    y += 2;
    let (width, left) = (canvas.width(), canvas.height().saturating_sub(y));
    // Beside each other where there is room for both.
    let half = width / 2;
    if width >= 100 {
        draw_overlap(p, canvas.part(0, y, half - 1, left));
        draw_around(lens, view, p, trial, canvas.part(half + 1, y, width - half - 2, left));
    } else {
        draw_overlap(p, canvas.part(0, y, width, left.min(9)));
        draw_around(lens, view, p, trial, canvas.part(1, y + 10, width - 2, left.saturating_sub(10)));
    }
}

fn draw_seams(lens: &SpliceLens, p: &Proposal, trial: Option<&CutTrial>, canvas: &mut Canvas<'_>) -> u16 {
    if lens.cut().is_some() {
        match trial.and_then(|t| t.seam) {
            Some((seam, judged)) => draw_seam(p, &seam, Some(&judged), true, 0, canvas),
            None => {
                canvas.put(1, 0, "no rows lie near one side of the cut", theme::faint());
            }
        }
        return 1;
    }
    let (seams, at) = (&p.told.seams, lens.at);
    let first = scroll(at.min(seams.len().saturating_sub(1)), LISTED, seams.len());
    let mut y = 0;
    for (i, seam) in seams.iter().enumerate().skip(first).take(LISTED) {
        draw_seam(p, seam, p.told.judged.get(i), i == at, y, canvas);
        y += 1;
    }
    if seams.len() > LISTED {
        let text = format!("{} of {} seams, ↑↓ chooses one", at.min(seams.len() - 1) + 1, seams.len());
        canvas.put(3, y, &text, theme::faint());
        y += 1;
    }
    if seams.is_empty() {
        canvas.put(1, 0, "no seam: one source serves everything", theme::faint());
        y = 1;
    }
    y
}

fn draw_seam(
    p: &Proposal,
    seam: &Seam,
    judged: Option<&JudgedSeam>,
    chosen: bool,
    y: u16,
    canvas: &mut Canvas<'_>,
) {
    let usual = p.told.usual_step;
    let apart = judged.and_then(|j| j.apart).map(|a| format!(", {a} apart")).unwrap_or_default();
    let text = format!(
        "seam {}   {} → {}   step {}, usual {usual} points{apart}",
        wall(seam.at),
        p.sources[seam.before].short(),
        p.sources[seam.after].short(),
        seam.step,
    );
    let trouble = judged.and_then(|j| j.trouble(seam, usual, p.bar()));
    let (mark, colour) = if trouble.is_none() { ("┃", theme::GOOD) } else { ("▲", theme::WRONG) };
    canvas.put(1, y, mark, theme::words().fg(colour));
    let x = canvas.put(3, y, &text, if chosen { theme::chosen() } else { theme::words() });
    let Some(trouble) = trouble else {
        canvas.put(x + 2, y, "calm", theme::words().fg(theme::GOOD));
        return;
    };
    let better = judged.and_then(|j| j.better).map(|b| format!("; b: calmer at {}", wall(b)));
    let told = format!("{trouble}{}", better.unwrap_or_default());
    canvas.put(x + 2, y, &told, theme::words().fg(theme::RISING));
}

/// The rows of each source and that they add up.
fn draw_sum(view: &View<'_>, p: &Proposal, trial: Option<&CutTrial>, y: u16, canvas: &mut Canvas<'_>) {
    let served = |s: usize| p.told.pieces.iter().filter(|x| x.source == s).map(|x| x.rows).sum::<u64>();
    let rows: Vec<u64> = match trial {
        Some(trial) => trial.rows.clone(),
        None => (0..p.sources.len()).map(served).collect(),
    };
    let mut pieces = vec![("rows ".to_owned(), theme::faint())];
    for (i, (source, n)) in p.sources.iter().zip(&rows).enumerate() {
        let plus = if i == 0 { "" } else { " + " };
        let colour = view.snapshot.colour_of(source);
        pieces.push((format!("{plus}{} {}", source.short(), thousands(*n)), theme::words().fg(colour)));
    }
    let sum: u64 = rows.iter().sum();
    pieces.push((format!(" = {}   ", thousands(sum)), theme::strong()));
    if trial.is_none() {
        let adds = sum == p.told.rows;
        let (text, colour) =
            if adds { ("✓ adds up", theme::GOOD) } else { ("✗ does not add up", theme::WRONG) };
        pieces.push((text.to_owned(), theme::words().fg(colour)));
    }
    canvas.pieces(1, y, &pieces);
}

/// How far the first two sources lie apart where both have rows.
fn draw_overlap(p: &Proposal, mut canvas: Canvas<'_>) {
    let o = &p.prepared.overlap;
    if o.rows == 0 {
        let text = format!("{} and {} share no time", p.sources[0].short(), p.sources[1].short());
        canvas.put(1, 0, &text, theme::words());
        return;
    }
    let share = |n: u64| n as f64 * 100.0 / o.rows as f64;
    let head = format!("overlap {} rows: equal {:.0} %", thousands(o.rows), share(o.equal));
    canvas.put(1, 0, &head, theme::words());
    let told = format!(
        "median {} and p95 {} points apart, changes correlate {:.2}",
        o.median_diff, o.p95_diff, o.correlation
    );
    canvas.put(1, 1, &told, theme::faint());
    let most = o.histogram.iter().copied().max().unwrap_or(1).max(1);
    if canvas.height() < 9 {
        let steps = o.histogram.map(|n| ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"][(n * 7 / most) as usize]);
        let line = steps.map(|s| s.repeat(3)).concat();
        let pieces = [
            ("-3 ", theme::faint()),
            (&line, theme::words().fg(theme::source(2))),
            (" +3 points", theme::faint()),
        ];
        canvas.pieces(1, 2, &pieces);
        return;
    }
    let room = canvas.width().saturating_sub(27) as u64;
    for (i, n) in o.histogram.iter().enumerate() {
        let y = i as u16 + 2;
        canvas.put_right(16, y, &step_in_words(i), theme::faint());
        canvas.put(18, y, &"█".repeat((n * room / most) as usize), theme::words().fg(theme::source(2)));
        canvas.put(19 + (n * room / most) as u16, y, &format!("{:.1} %", share(*n)), theme::faint());
    }
    draw_months(p, 10, &mut canvas);
}

/// How far each later source lies above the first, month by month.
fn draw_months(p: &Proposal, mut y: u16, canvas: &mut Canvas<'_>) {
    for (gap, source) in p.prepared.gaps.iter().zip(&p.sources[1..]) {
        let Some(gap) = gap else { continue };
        if y + 1 >= canvas.height() {
            return;
        }
        canvas.put(1, y, &format!("{} by month, in points", source.short()), theme::words());
        y += 1;
        let across = (canvas.width() / 15).max(1) as usize;
        // The latest months say most of what is to come.
        let room = across * canvas.height().saturating_sub(y) as usize;
        for (i, ((year, month), median)) in
            gap.months.iter().skip(gap.months.len().saturating_sub(room)).enumerate()
        {
            let (x, line) = ((i % across * 15) as u16 + 1, y + (i / across) as u16);
            canvas.put(x, line, &format!("{year}-{month:02}"), theme::faint());
            let style = if *median == 0 { theme::words() } else { theme::words().fg(theme::RISING) };
            let told = if *median == 0 { "0".to_owned() } else { format!("{median:+}") };
            canvas.put_right(x + 13, line, &told, style);
        }
        y += gap.months.len().min(room).div_ceil(across) as u16 + 1;
    }
}

/// The bars of both sources at the seam: each in full where it serves, faint where it does not.
fn draw_around(
    lens: &SpliceLens,
    view: &View<'_>,
    p: &Proposal,
    trial: Option<&CutTrial>,
    mut canvas: Canvas<'_>,
) {
    let Some((seam, _)) = lens.seam(p, trial) else { return };
    let Some(around) = lens.around.get() else {
        canvas.put(0, 0, "reading the seam …", theme::faint());
        return;
    };
    let (before, after) = (&p.sources[seam.before], &p.sources[seam.after]);
    let told = [
        ("at the seam  ".to_owned(), theme::words()),
        (before.short(), theme::words().fg(view.snapshot.colour_of(before))),
        (" to ".to_owned(), theme::faint()),
        (after.short(), theme::words().fg(view.snapshot.colour_of(after))),
        ("  Enter: chart".to_owned(), theme::faint()),
    ];
    canvas.pieces(0, 0, &told);
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(2));
    let scale = scale_of(&around.before, &around.after);
    let window = around.window;
    let middle = Span::new(window.from, seam.at);
    let halves = [(&around.before, before, middle), (&around.after, after, Span::new(seam.at, window.to))];
    for (rows, _, _) in halves {
        draw_rows(rows, window, scale, theme::FAINT, canvas.part(0, 1, width, height));
    }
    for (rows, source, half) in halves {
        let served = rows.rows(rows.range_of(half));
        let colour = view.snapshot.colour_of(source);
        if !served.is_empty() {
            draw_rows(&served, window, scale, colour, canvas.part(0, 1, width, height));
        }
    }
    let minutes = (seam.at - window.from) / MINUTE;
    let (left, right) = (format!("-{minutes} min"), format!("+{minutes} min"));
    canvas.put(0, height + 1, &left, theme::faint());
    canvas.put(width / 2, height + 1, "┃", theme::strong());
    canvas.put_right(width, height + 1, &right, theme::faint());
}
