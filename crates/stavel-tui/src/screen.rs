//! The frame of the bench: title, spine, lens bar, lens, facts, message and keys.

use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use stavel_core::store::SeriesInfo;
use stavel_work::{Step, counted};

use crate::act::{Act, Common, Line};
use crate::app::App;
use crate::canvas::{self, Canvas, cut_to, wrapped};
use crate::choice_view;
use crate::effect::Tone;
use crate::intake::COLUMNS;
use crate::intake_view;
use crate::lens::FactLine;
use crate::next::StageState;
use crate::overlay::Overlay;
use crate::overlay_view::{self, arrow};
use crate::spine;
use crate::theme;
use crate::view::facts_width;

/// The smallest screen the bench works on.
pub const SMALLEST: (u16, u16) = (80, 24);

/// Most strips on the spine.
fn strips(rows: u16) -> usize {
    if rows >= 36 { 5 } else { 3 }
}

/// Where the parts of the bench lie; mouse clicks are looked up in it too.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScreenAreas {
    pub spine: Rect,
    pub bar: Rect,
    pub lens: Rect,
    pub facts: Rect,
}

/// The places on a screen.
pub fn places(app: &App, area: Rect) -> ScreenAreas {
    let spine = spine::height(&app.view(), strips(area.height));
    let facts = facts_width(area.width);
    let top = 1 + spine;
    let body = area.height.saturating_sub(top + 2 + 3);
    let at = |x, y, width, height| Rect { x: area.x + x, y: area.y + y, width, height };
    ScreenAreas {
        spine: at(0, 1, area.width, spine),
        bar: at(0, top, area.width, 1),
        lens: at(0, top + 2, area.width - facts, body),
        facts: at(area.width - facts, top + 2, facts, body),
    }
}

/// Draws the bench.
pub fn draw(app: &App, frame: &mut Frame<'_>) {
    let area = frame.area();
    draw_bench(app, area, frame.buffer_mut());
}

/// Draws the bench into a buffer.
pub fn draw_bench(app: &App, area: Rect, buffer: &mut Buffer) {
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let text =
            format!("Stavel needs {}x{}; this is {}x{}", SMALLEST.0, SMALLEST.1, area.width, area.height);
        Canvas::new(buffer, area).paragraph(0, &text, theme::words());
        return;
    }
    let places = places(app, area);
    title(app, Canvas::new(buffer, Rect { height: 1, ..area }));
    let mask = app.lens().hides();
    match &mask {
        // Where there are rows tells which history it is.
        Some(_) => {
            let words =
                "blind practice: names, dates and prices are not those of the history; V reveals them";
            Canvas::new(buffer, places.spine).put(1, 0, words, theme::faint());
        }
        None => spine::draw(&app.view(), Canvas::new(buffer, places.spine), strips(area.height)),
    }
    Canvas::new(buffer, Rect { y: places.bar.y + 1, height: 1, ..places.bar }).rule(0, theme::rule());
    bar(app, Canvas::new(buffer, Rect { height: 2, ..places.bar }));
    match &app.overlay {
        // The form needs the room that facts have, and there are no facts of it.
        Some(Overlay::Intake(form)) => {
            intake_view::draw(form, &app.view(), Canvas::new(buffer, places.lens.union(places.facts)));
        }
        _ => {
            app.lens().draw(&app.view(), Canvas::new(buffer, places.lens));
            if places.facts.width > 0 {
                facts(app, Canvas::new(buffer, places.facts));
            } else if app.shows_facts {
                let width = FACTS_OVER.min(places.lens.width);
                let over = Rect { x: places.lens.x + places.lens.width - width, width, ..places.lens };
                let mut canvas = Canvas::new(buffer, over);
                canvas.clear();
                facts(app, canvas);
            }
        }
    }
    let told = told_at_length(app, area.width);
    // The last line stands where messages do, unless an answer is typed there.
    let is_asking = matches!(app.overlay, Some(Overlay::Prompt(_)));
    let more = told.len().saturating_sub(usize::from(!is_asking)) as u16;
    let foot = Rect { y: area.y + area.height - 3 - more, height: 3 + more, ..area };
    let mut foot = Canvas::new(buffer, foot);
    if more > 0 {
        foot.clear();
    }
    foot.rule(0, theme::rule());
    for (y, line) in (1..).zip(&told) {
        foot.put(1, y, line, theme::words().fg(theme::WRONG));
    }
    let (width, height) = (foot.width(), foot.height());
    let mut foot = foot.part(0, more, width, height);
    message(app, &told, &mut foot);
    keys(app, &mut foot);
    match &app.overlay {
        Some(Overlay::Palette(p)) => {
            overlay_view::palette(p, &app.table, Canvas::new(buffer, places.lens));
        }
        Some(Overlay::Choice(choice)) => choice_view::draw(choice, Canvas::new(buffer, places.lens)),
        Some(Overlay::Warnings(scrolled)) => {
            choice_view::draw_warnings(&app.warnings, *scrolled, Canvas::new(buffer, places.lens));
        }
        Some(Overlay::Keys(scrolled)) => {
            overlay_view::key_list(&app.table, app.open, *scrolled, Canvas::new(buffer, places.lens));
        }
        _ => {}
    }
    if let Some(mask) = mask {
        mask.lay_over(area, buffer);
    }
}

/// The series with what a person must know of it, and the job that runs or the window.
fn title(app: &App, mut canvas: Canvas<'_>) {
    let width = canvas.width();
    let style = if app.running.is_some() { theme::words().fg(theme::GOOD) } else { theme::faint() };
    let mut x = canvas.put(1, 0, "Stavel", theme::strong().fg(theme::RISING)) + 2;
    if let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) {
        let colour = app.snapshot.colour_of(&info.name);
        let clock = info.edition.clock.as_ref().map_or("afloat".to_owned(), ToString::to_string);
        let clock_style = if info.is_afloat() { theme::words().fg(theme::WRONG) } else { theme::words() };
        x = canvas.pieces(
            x,
            0,
            &[
                (info.name.instrument.clone(), theme::strong()),
                (" · ".into(), theme::faint()),
                (info.name.short(), theme::words().fg(colour)),
                (" · ".into(), theme::faint()),
                (clock, clock_style),
            ],
        );
        for (mark, style) in warnings(app, info) {
            x = canvas.pieces(x, 0, &[("  ", theme::faint()), (mark.as_str(), style)]);
        }
        x += 2;
    }
    // What does not fit is cut with a mark; it never runs into the left part. The spine shows the window anyway.
    let room = width.saturating_sub(x + 1);
    let window = || {
        let dates = app.selected.as_ref().map_or(String::new(), |_| spine::window_in_words(app.window));
        let wordy = [format!("window {dates}"), dates.clone()];
        wordy.into_iter().find(|w| !dates.is_empty() && canvas::columns(w) <= room).unwrap_or_default()
    };
    let right = job_in_words(app).unwrap_or_else(window);
    canvas.put_right(width - 1, 0, &cut_to(&right, usize::from(room)), style);
}

/// What a person must know of a series: its grade, and whether it is stale or rests on what nobody said.
fn warnings(app: &App, info: &SeriesInfo) -> Vec<(String, Style)> {
    let mut out = Vec::new();
    if let Some(known) = app.view().checked.get(&info.edition.id) {
        let style = if known.points >= 90 { theme::words().fg(theme::GOOD) } else { theme::words() };
        out.push((format!("grade {}", known.points), style));
    }
    if app.snapshot.stale(info).is_some() {
        out.push(("▲ stale".into(), theme::words().fg(theme::RISING)));
    }
    if !app.snapshot.assumed(info).is_empty() {
        let what: Vec<&str> = app.snapshot.assumed(info).iter().map(|d| d.what.as_str()).collect();
        out.push((format!("○ assumed {}", what.join(", ")), theme::faint()));
    }
    out
}

/// The job that runs, how far it is, how fast, and how long it still takes.
fn job_in_words(app: &App) -> Option<String> {
    let running = app.running.as_ref()?;
    let (doing, done, total) = running.job.state();
    let took = running.begun.elapsed().as_secs_f64();
    let share = if total > 0 { (done as f64 / total as f64).min(1.0) } else { 0.0 };
    let left =
        if share > 0.01 { format!(" {:.0} s left", took / share * (1.0 - share)) } else { String::new() };
    let unit = if matches!(running.step, Step::Intake(_)) { "B" } else { "rows" };
    let rate = in_thousands(done as f64 / took.max(0.05));
    Some(format!("▸ {doing} {:.0} % {rate} {unit}/s{left}", share * 100.0))
}

/// `4.1 M`, `312 k`.
fn in_thousands(n: f64) -> String {
    match n {
        n if n >= 1e6 => format!("{:.1} M", n / 1e6),
        n if n >= 1e3 => format!("{:.0} k", n / 1e3),
        n => format!("{n:.0}"),
    }
}

/// The label of a lens on the bar.
fn label(place: usize, word: &str, state: StageState, narrow: bool) -> String {
    let mark = state.mark();
    if narrow { format!("{}{mark}{word}", place + 1) } else { format!(" {} {word}{mark}", place + 1) }
}

/// How far the stage of each lens is for the selected instrument.
fn stages(app: &App) -> impl Fn(&str) -> StageState {
    let stages = match app.is_read {
        true => app.view().guide().stages(app.instrument(), app.selected.as_ref()),
        false => Vec::new(),
    };
    move |word| stages.iter().find(|(stage, _)| *stage == word).map_or(StageState::None, |(_, state)| *state)
}

fn bar(app: &App, mut canvas: Canvas<'_>) {
    let narrow = canvas.width() < 100;
    let mut x = u16::from(!narrow);
    let state_of = stages(app);
    for (place, lens) in app.lenses.iter().enumerate() {
        let state = state_of(lens.word());
        let label = label(place, lens.word(), state, narrow);
        let style = match state {
            _ if place == app.open => theme::chosen(),
            StageState::Done => theme::words().fg(theme::GOOD),
            StageState::Due | StageState::Decision => theme::words().fg(theme::RISING),
            StageState::Later | StageState::None => theme::words(),
        };
        x = canvas.put(x, 0, &label, style) + u16::from(narrow);
    }
    if !app.is_read || app.overlay.is_some() {
        return;
    }
    let (mark, words) = ("next ▸ ", app.next_in_words());
    let key = app.key_of(Common::Next);
    let pieces = |words: &str| {
        [
            (mark.to_owned(), theme::words().fg(theme::RISING)),
            (format!("{key} "), theme::strong()),
            (words.to_owned(), theme::words().fg(theme::RISING)),
        ]
    };
    let fixed = canvas::columns(mark) + canvas::columns(&key) + 1;
    let width = canvas.width();
    // Where the lenses leave no room for it, it stands on the line below them.
    let fits = x + fixed + canvas::columns(&words) + 2 < width;
    let room = if fits { width - x - fixed - 2 } else { width - fixed - 4 };
    let words = cut_to(&words, usize::from(room));
    let at = width - 1 - fixed - canvas::columns(&words);
    if fits {
        canvas.pieces(at, 0, &pieces(&words));
    } else {
        canvas.put(at - 1, 1, " ", theme::rule());
        let x = canvas.pieces(at, 1, &pieces(&words));
        canvas.put(x, 1, " ", theme::rule());
    }
}

/// The place of the lens of the bar that lies at a column.
pub fn lens_at(app: &App, column: u16, columns: u16) -> Option<usize> {
    let narrow = columns < 100;
    let mut x = u16::from(!narrow);
    for (place, lens) in app.lenses.iter().enumerate() {
        let label = label(place, lens.word(), StageState::None, narrow);
        let width = canvas::columns(&label) + u16::from(narrow);
        if (x..x + width).contains(&column) {
            return Some(place);
        }
        x += width;
    }
    None
}

fn facts(app: &App, mut canvas: Canvas<'_>) {
    for y in 0..canvas.height() {
        canvas.put(0, y, "│", theme::rule());
    }
    let (width, height) = (canvas.width() - 3, canvas.height());
    let mut canvas = canvas.part(2, 0, width, height);
    let mut y = 0;
    // What does not fit is told of.
    let mut left_out = 0;
    for fact in app.lens().facts(&app.view()) {
        match fact {
            FactLine::Heading(text) => {
                canvas.put(0, y, &text, theme::strong());
                y += 1;
            }
            FactLine::Pair(label, value) => {
                canvas.put(0, y, label, theme::faint());
                let room = (width as usize).saturating_sub(13);
                for line in wrapped(&value, room) {
                    canvas.put(12, y, &line, theme::words());
                    y += 1;
                }
                y += u16::from(value.is_empty());
            }
            FactLine::Words(text) => y = canvas.paragraph(y, &text, theme::words()),
            FactLine::Gap => y += 1,
        }
        left_out += u16::from(y > height);
    }
    if left_out > 0 {
        canvas.put(
            0,
            height - 1,
            &format!("{:<width$}", "… more below", width = width as usize),
            theme::faint(),
        );
    }
}

/// Columns of the facts where they lie over the lens.
const FACTS_OVER: u16 = 36;

/// Most lines that one message takes.
const LINES_OF_A_MESSAGE: usize = 8;

/// What is wrong, where one line does not hold it: the lines above that of the message. What was wrong with an answer
/// stands above the line on which it is typed again.
fn told_at_length(app: &App, width: u16) -> Vec<String> {
    if app.message.text.is_empty() {
        return Vec::new();
    }
    let text = format!("▲ {}", app.message.text);
    let mut lines = wrapped(&text, usize::from(width - 2));
    lines.truncate(LINES_OF_A_MESSAGE);
    match &app.overlay {
        Some(Overlay::Prompt(_)) => lines,
        _ if app.message.tone == Tone::Wrong && lines.len() > 1 => lines,
        _ => Vec::new(),
    }
}

fn message(app: &App, told: &[String], canvas: &mut Canvas<'_>) {
    if let Some(Overlay::Prompt(p)) = &app.overlay {
        let x = canvas.put(1, 1, &format!("{}: ", p.label), theme::words().fg(theme::RISING));
        match p.is_selected {
            true => drop(canvas.put(x, 1, p.typed.value(), theme::chosen())),
            false => drop(overlay_view::typed(&p.typed, x, 1, canvas)),
        }
        return;
    }
    if !told.is_empty() {
        return;
    }
    let colour = match app.message.tone {
        Tone::Plain => theme::WORDS,
        Tone::Good => theme::GOOD,
        Tone::Review => theme::RISING,
        Tone::Wrong => theme::WRONG,
    };
    let mark = match app.message.tone {
        _ if app.message.text.is_empty() => "",
        Tone::Plain => "",
        Tone::Good => "✓ ",
        Tone::Review => "△ ",
        Tone::Wrong => "▲ ",
    };
    let width = canvas.width();
    if app.message.text.is_empty() && !app.warnings.is_empty() {
        let words = format!("▲ {} (!)", counted(app.warnings.len() as u64, "warning"));
        canvas.put_right(width - 1, 1, &words, theme::faint());
        return;
    }
    let text = cut_to(&format!("{mark}{}", app.message.text), usize::from(width - 2));
    let x = canvas.put(1, 1, &text, theme::words().fg(colour));
    if x + canvas::columns(&app.message.also) + 4 < width {
        canvas.put_right(width - 1, 1, &app.message.also, theme::faint());
    }
}

fn keys(app: &App, canvas: &mut Canvas<'_>) {
    let fixed: Option<&[(&str, &str)]> = match &app.overlay {
        Some(Overlay::Prompt(prompt)) if prompt.has_earlier() => {
            Some(&[("Enter", "do it"), ("Esc", "leave it"), ("↑↓", "earlier answers"), ("Ctrl-u", "clear")])
        }
        Some(Overlay::Prompt(_)) => {
            Some(&[("Enter", "do it"), ("Esc", "leave it"), ("Tab", "complete a name"), ("Ctrl-u", "clear")])
        }
        Some(Overlay::Palette(_)) => Some(&[("↑↓", "choose"), ("Enter", "do it"), ("Esc", "close")]),
        Some(Overlay::Choice(_)) => Some(&[
            ("1-9", "take an answer"),
            ("↑↓", "choose"),
            ("Enter", "take it"),
            ("Esc", "decide later"),
        ]),
        Some(Overlay::Keys(_) | Overlay::Warnings(_)) => Some(&[("↑↓", "scroll"), ("any key", "closes")]),
        Some(Overlay::Intake(form)) if form.browser.is_some() => Some(&[
            ("↑↓", "choose"),
            ("→", "open"),
            ("←", "up"),
            ("Space", "mark"),
            ("letters", "filter"),
            ("Tab", "recent places"),
            ("Enter", "take these"),
            ("Esc", "back"),
        ]),
        Some(Overlay::Intake(form)) if form.at == COLUMNS => Some(&[
            ("←→", "column"),
            ("↑↓", "what it is"),
            ("d", "dates"),
            (",", "decimal mark"),
            ("s", "stamp"),
            ("r", "add/replace"),
            ("x", "as found"),
            ("Enter", "take it in"),
            ("Esc", "leave it"),
        ]),
        Some(Overlay::Intake(_)) => Some(&[
            ("Tab", "next field, columns"),
            ("↓", "folders"),
            ("PgUp PgDn", "series"),
            ("Enter", "take it in"),
            ("Ctrl-u", "clear"),
            ("Esc", "leave it"),
        ]),
        None => None,
    };
    let mut x = 1;
    if let Some(fixed) = fixed {
        for (key, word) in fixed {
            x = canvas.pieces(
                x,
                2,
                &[(*key, theme::strong()), (" ", theme::faint()), (*word, theme::faint())],
            ) + 3;
        }
        return;
    }
    // What everyone needs has its place at the right; the rest goes as far as there is room.
    let always = [Common::Palette, Common::Keys, Common::Quit].map(Act::Common);
    let is_always = |line: &&Line| always.contains(&line.act);
    let width = canvas.width();
    let room = width.saturating_sub(ALWAYS + 1);
    let mut at = room;
    for line in app.table.lines.iter().filter(is_always) {
        at = hint(canvas, at, &line.key, line.short);
    }
    // The hint of a pair of keys stands with its second; its first is shown before it.
    let mut before = String::new();
    // Where the facts stand beside the lens there is nothing to open.
    let has_facts = app.view().facts_width() > 0;
    let is_needless = |line: &&Line| has_facts && line.act == Act::Common(Common::Facts);
    for line in app.table.lines_for(app.open).filter(|l| !l.is_rare && !is_always(l) && !is_needless(l)) {
        if line.short.is_empty() {
            before.push_str(arrow(&line.key));
            continue;
        }
        let keys = format!("{before}{}", arrow(&line.key));
        before.clear();
        if x + canvas::columns(&keys) + canvas::columns(line.short) + 2 > room {
            break;
        }
        x = hint(canvas, x, &keys, line.short);
    }
}

/// A key and what it does; gives the column after it.
fn hint(canvas: &mut Canvas<'_>, x: u16, key: &str, word: &str) -> u16 {
    canvas.pieces(x, 2, &[(key, theme::strong()), (" ", theme::faint()), (word, theme::faint())]) + 2
}

/// Columns of the hints that are always there: palette, keys, quit.
const ALWAYS: u16 = 26;
