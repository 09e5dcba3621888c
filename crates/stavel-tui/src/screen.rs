//! The frame of the bench: title, spine, lens bar, lens, facts, message and keys.

use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::act::{Act, Common, Line};
use crate::app::App;
use crate::canvas::{self, Canvas, thousands, wrapped};
use crate::effect::Tone;
use crate::intake::COLUMNS;
use crate::intake_view;
use crate::lens::FactLine;
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
    spine::draw(&app.view(), Canvas::new(buffer, places.spine), strips(area.height));
    bar(app, Canvas::new(buffer, places.bar));
    Canvas::new(buffer, Rect { y: places.bar.y + 1, height: 1, ..places.bar }).rule(0, theme::rule());
    match &app.overlay {
        // The form needs the room that facts have, and there are no facts of it.
        Some(Overlay::Intake(form)) => {
            intake_view::draw(form, Canvas::new(buffer, places.lens.union(places.facts)));
        }
        _ => {
            app.lens().draw(&app.view(), Canvas::new(buffer, places.lens));
            if places.facts.width > 0 {
                facts(app, Canvas::new(buffer, places.facts));
            }
        }
    }
    let foot = Rect { y: area.y + area.height - 3, height: 3, ..area };
    let mut foot = Canvas::new(buffer, foot);
    foot.rule(0, theme::rule());
    message(app, &mut foot);
    keys(app, &mut foot);
    match &app.overlay {
        Some(Overlay::Palette(p)) => {
            overlay_view::palette(p, &app.table, Canvas::new(buffer, places.lens));
        }
        Some(Overlay::Keys(scrolled)) => {
            overlay_view::key_list(&app.table, app.open, *scrolled, Canvas::new(buffer, places.lens));
        }
        _ => {}
    }
}

fn title(app: &App, mut canvas: Canvas<'_>) {
    let mut x = canvas.put(1, 0, "Stavel", theme::strong().fg(theme::RISING)) + 3;
    if let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) {
        let colour = app.snapshot.colour_of(&info.name);
        x = canvas.put(x, 0, &info.name.instrument, theme::strong());
        x = canvas.put(x, 0, " · ", theme::faint());
        x = canvas.put(x, 0, &info.name.short(), theme::words().fg(colour));
        x = canvas.put(x, 0, " · ", theme::faint());
        let clock = info.edition.clock.as_ref().map_or("afloat".to_owned(), ToString::to_string);
        let style = if info.is_afloat() { theme::words().fg(theme::WRONG) } else { theme::words() };
        x = canvas.put(x, 0, &clock, style) + 3;
        if canvas.width() >= 100 {
            canvas.put(x, 0, &format!("window {}", spine::window_in_words(app.window)), theme::faint());
        }
    }
    let width = canvas.width();
    if let Some(running) = &app.running {
        let (doing, done, total) = running.job.state();
        let took = running.begun.elapsed().as_secs_f64();
        let share = if total > 0 { (done as f64 / total as f64).min(1.0) } else { 0.0 };
        let left =
            if share > 0.01 { format!(" {:.0} s left", took / share * (1.0 - share)) } else { String::new() };
        let rate = thousands((done as f64 / took.max(0.05)) as u64);
        canvas.put_right(
            width - 1,
            0,
            &format!("▸ {doing} {:.0} % {rate}/s{left}", share * 100.0),
            theme::words().fg(theme::GOOD),
        );
    }
}

/// The label of a lens on the bar.
fn label(place: usize, word: &str, narrow: bool) -> String {
    if narrow { format!("{} {word}", place + 1) } else { format!(" {} {word} ", place + 1) }
}

fn bar(app: &App, mut canvas: Canvas<'_>) {
    let narrow = canvas.width() < 100;
    let mut x = u16::from(!narrow);
    for (place, lens) in app.lenses.iter().enumerate() {
        let style = if place == app.open { theme::chosen() } else { theme::words() };
        x = canvas.put(x, 0, &label(place, lens.word(), narrow), style) + u16::from(narrow);
    }
    let due = format!(
        "next ▸ {}",
        if app.instrument().is_empty() {
            "take files in (i)".into()
        } else {
            app.snapshot.next_for(app.instrument())
        }
    );
    let width = canvas.width();
    if !app.is_read {
        return;
    }
    if x + canvas::columns(&due) + 2 < width {
        canvas.put_right(width - 1, 0, &due, theme::words().fg(theme::RISING));
    }
}

/// The place of the lens of the bar that lies at a column.
pub fn lens_at(app: &App, column: u16, columns: u16) -> Option<usize> {
    let narrow = columns < 100;
    let mut x = u16::from(!narrow);
    for (place, lens) in app.lenses.iter().enumerate() {
        let width = label(place, lens.word(), narrow).len() as u16 + u16::from(narrow);
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
    }
}

fn message(app: &App, canvas: &mut Canvas<'_>) {
    if let Some(Overlay::Prompt(p)) = &app.overlay {
        let x = canvas.put(1, 1, &format!("{}: ", p.label), theme::words().fg(theme::RISING));
        overlay_view::typed(&p.typed, x, 1, canvas);
        return;
    }
    let colour = match app.message.tone {
        Tone::Plain => theme::WORDS,
        Tone::Good => theme::GOOD,
        Tone::Wrong => theme::WRONG,
    };
    let x = canvas.put(1, 1, &app.message.text, theme::words().fg(colour));
    let width = canvas.width();
    if x + canvas::columns(&app.message.also) + 4 < width {
        canvas.put_right(width - 1, 1, &app.message.also, theme::faint());
    }
}

fn keys(app: &App, canvas: &mut Canvas<'_>) {
    let fixed: Option<&[(&str, &str)]> = match &app.overlay {
        Some(Overlay::Prompt(prompt)) if prompt.has_earlier() => {
            Some(&[("Enter", "do it"), ("Esc", "leave it"), ("↑↓", "earlier answers"), ("Ctrl-u", "clear")])
        }
        Some(Overlay::Prompt(_)) => Some(&[("Enter", "do it"), ("Esc", "leave it"), ("Ctrl-u", "clear")]),
        Some(Overlay::Palette(_)) => Some(&[("↑↓", "choose"), ("Enter", "do it"), ("Esc", "close")]),
        Some(Overlay::Keys(_)) => Some(&[("↑↓", "scroll"), ("any key", "closes")]),
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
    for line in app.table.lines_for(app.open).filter(|l| !l.is_rare && !is_always(l)) {
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
