//! The picture of a rehearsal: its clocks, the quote, panes with orders as lines, the journal below.

use ratatui::style::Color;
use stavel_core::model::price::{as_float, scaled};
use stavel_core::model::time::{SECOND, rfc3339, wall};
use stavel_core::model::{Clock, Columns, Micros};
use stavel_core::rehearse::{Direction, OrderRole, lots_text, money_to};
use stavel_draw::{Scene, SceneRequest, scene};
use stavel_work::{ChartStep, journal_lines};

use super::play::{Play, pace_in_words};
use super::trade::{level_in_words, sign_of};
use super::{Face, RehearseLens, depth, journal};
use crate::canvas::{Canvas, columns};
use crate::effect::{Effects, Pointer, say};
use crate::scene_view::{LABELS, PriceLevel, PricePoint, SceneMarks, draw_scene, price_at};
use crate::theme;
use crate::view::View;

/// Lines above the panes.
const HEAD: u16 = 2;

/// What stands on the screen all the time where quotes are not all recorded; of several instruments, of which.
fn rebuilt_in_words(play: &Play, is_wide: bool) -> Option<String> {
    let rebuilt = play.played.iter().filter_map(|one| Some((one.instrument.name.as_str(), one.rebuilt()?)));
    let (names, words): (Vec<&str>, Vec<&str>) = rebuilt.unzip();
    let words = if is_wide { words.first()? } else { words.first().map(|_| "bars rebuilt to ticks")? };
    Some(match play.played.len() {
        1 => format!(" ▲ {words} "),
        _ => format!(" ▲ {}: {words} ", names.join(", ")),
    })
}

/// Two columns a bar: one for it and one for the gap.
pub fn columns_of(width: u16) -> usize {
    width.saturating_sub(LABELS) as usize / 2
}

/// The lines of the journal and of the panes above it.
pub fn chart_room(height: u16, panes: usize) -> (u16, u16) {
    let journal = if height > 20 { 7 } else { 3 };
    let inside = height.saturating_sub(journal + HEAD + 1);
    (journal, if panes > 2 { inside / 2 } else { inside })
}

/// The part of the panes' room that a pane has: beside each other, from three on also below.
fn part_of(place: usize, panes: usize, width: u16, height: u16) -> (u16, u16, u16, u16) {
    let across = if panes > 1 { 2 } else { 1 };
    let wide = width / across;
    let (column, line) = (place as u16 % across, place as u16 / across);
    // The last of three has the whole width.
    let is_alone = panes == 3 && place == 2;
    let wide_here = if is_alone || column + 1 == across { width - column * wide } else { wide };
    (column * wide, HEAD + line * height, wide_here, height)
}

impl RehearseLens {
    pub(super) fn draw_all(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        if self.face == Face::Calendar {
            return self.calendar.draw(self.play.as_ref(), view, canvas);
        }
        let Some(play) = &self.play else { return self.draw_nothing(view, canvas) };
        draw_head(play, self.pace, view, &mut canvas);
        if self.face == Face::Journal {
            let (width, height) = (canvas.width(), canvas.height().saturating_sub(HEAD));
            return journal::draw(play, self.journal_line, canvas.part(0, HEAD, width, height));
        }
        let (lines, height) = chart_room(canvas.height(), play.panes.len());
        let width = canvas.width();
        for place in 0..play.panes.len() {
            let (x, y, wide, high) = part_of(place, play.panes.len(), width, height);
            self.draw_pane(play, place, view, canvas.part(x, y, wide, high));
        }
        if play.panes.is_empty() {
            canvas.put(1, HEAD + 1, "reading what was before …", theme::faint());
        }
        let y = canvas.height().saturating_sub(lines + 1);
        canvas.rule(y, theme::rule());
        if let Some(mark) = rebuilt_in_words(play, width >= 120) {
            canvas.put_right(width.saturating_sub(2), y, &mark, theme::words().fg(theme::RISING));
        }
        self.draw_journal(play, y, lines, &mut canvas);
    }

    fn draw_journal(&self, play: &Play, y: u16, lines: u16, canvas: &mut Canvas<'_>) {
        let told = journal_lines(play.replay.desk(), &play.currency, play.money_decimals);
        let x = depth::draw(play, y, lines, canvas) + 1;
        canvas.put(x, y, &format!(" {} ", self.dealing.in_words()), theme::faint());
        if told.is_empty() {
            let words = "the journal is empty: b buys, s sells, o gives an order with a price";
            canvas.put(x, y + 1, words, theme::faint());
        }
        // Beside the book there is no room for the date, which stands above.
        let from = if x > 1 { 11 } else { 0 };
        for (i, line) in told.iter().rev().take(lines as usize).enumerate() {
            let line = line.get(from..).unwrap_or(line);
            canvas.put(x, y + 1 + i as u16, line, if i == 0 { theme::words() } else { theme::faint() });
        }
    }

    fn draw_nothing(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        if let Some(trouble) = &self.trouble {
            let width = canvas.width().saturating_sub(4);
            let mut words = canvas.part(2, 1, width, 3);
            words.paragraph(0, &trouble.to_string(), theme::words().fg(theme::WRONG));
            let mut y = 5;
            if let Some(other) = self.proposed_spread(view) {
                let words = format!(
                    "g replays with the median spread of each hour of the week, measured on {}. It is marked as assumed.",
                    other.short()
                );
                y += canvas.part(2, y, width, 3).paragraph(0, &words, theme::words().fg(theme::RISING)) + 1;
            }
            let hint = match trouble.is_undecided() {
                true => "p sets the spread in points   ] [ another series   C what can be replayed",
                false => "] [ another series   C what can be replayed",
            };
            canvas.put(2, y, hint, theme::words());
            return;
        }
        let text = if view.series().is_some_and(stavel_core::store::SeriesInfo::is_afloat) {
            "This series is afloat: align it first (4), or choose another (])."
        } else {
            "reading …"
        };
        canvas.put(2, 1, text, theme::faint());
    }

    fn draw_pane(&self, play: &Play, place: usize, view: &View<'_>, mut canvas: Canvas<'_>) {
        let pane = &play.panes[place];
        let tape = &play.replay.tapes()[pane.of];
        let bars = pane.bars(columns_of(canvas.width()), tape);
        let one = &play.played[pane.of];
        let is_focus = place == play.focus;
        if play.panes.len() > 1 {
            let name =
                format!("{} {} {}", if is_focus { "▸" } else { " " }, play.called(pane.of), pane.frame);
            let style = if is_focus { theme::strong() } else { theme::faint() };
            canvas.put(1, 0, &name, style);
        }
        if bars.is_empty() {
            let words = "no bar is over yet: Space lets time run, t plays a quote";
            canvas.put(1, 1, words, theme::faint());
            return;
        }
        let clock = view.settings.clock.clone().unwrap_or_else(|| one.instrument.sheet.session.clock.clone());
        let made = scene_with_orders(play, pane.of, &bars, &clock);
        let mut marks = marks_of(play, pane.of, &bars);
        if is_focus {
            self.add_drawings(play, &bars, &made, view, &mut marks);
        }
        let top = u16::from(play.panes.len() > 1);
        let (width, height) = (canvas.width(), canvas.height().saturating_sub(top));
        draw_scene(&made, &marks, canvas.part(0, top, width, height));
        draw_order_words(play, pane.of, &made, canvas.part(0, top, width, height));
    }

    /// Points of the price that a line of the screen stands for.
    pub(super) fn points_a_line(&self, view: &View<'_>) -> i64 {
        let Some(play) = &self.play else { return 1 };
        let bars = bars_of(play, super::columns_on(view));
        let made = scene_with_orders(play, play.of(), &bars, &play.instrument().sheet.session.clock);
        let (_, height) = chart_room(view.size.1, play.panes.len());
        let Some(pane) = made.panes.first().filter(|_| height > 2) else { return 1 };
        let unit = stavel_core::model::price::unit(play.decimals()) as f64;
        ((pane.high - pane.low) * unit / (f64::from(height - 1) * pane.share)).round() as i64
    }

    /// What draws the picture of the moment into a file: nothing after it.
    pub(super) fn picture_step(&self, view: &View<'_>) -> Option<ChartStep> {
        // A picture of a hidden history would tell what it is.
        let play = self.play.as_ref().filter(|_| !self.is_hidden)?;
        let pane = play.panes.get(play.focus)?;
        let bars = pane.bars(super::columns_on(view), play.tape());
        if bars.len() < 2 {
            return None;
        }
        let step = ChartStep::of(play.series().clone(), std::path::PathBuf::new());
        // Of a bar that is not over nothing is in the file either.
        let until = play.reads(&[(pane.of, pane.frame)]).first().map_or(play.now, |read| read.until);
        Some(ChartStep { from: bars.time.first().map(|t| rfc3339(*t)), to: Some(rfc3339(until)), ..step })
    }

    /// Pressing on the line of an order takes it up; where the pointer is let go it is moved to.
    pub(super) fn point(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects> {
        let play = self.play.as_ref().filter(|_| self.face == Face::Chart)?;
        let (x, y) = match pointer {
            Pointer::Press(x, y) | Pointer::Drag(x, y) | Pointer::Release(x, y) => (x, y),
            // A turn of the wheel must not choose another series: that ends what is played.
            Pointer::WheelUp(..) | Pointer::WheelDown(..) => return Some(Effects::new()),
        };
        let (_, height) = chart_room(size.1, play.panes.len());
        let count = play.panes.len();
        let holds = |place: &usize| {
            let (left, top, wide, high) = part_of(*place, count, size.0, height);
            (left..left + wide).contains(&x) && (top..top + high).contains(&y)
        };
        let place = (0..count).find(holds)?;
        let (_, top, wide, high) = part_of(place, count, size.0, height);
        let above = u16::from(count > 1);
        let pane = &play.panes[place];
        let bars = pane.bars(columns_of(wide), &play.replay.tapes()[pane.of]);
        let clock = &play.played[pane.of].instrument.sheet.session.clock;
        let made = scene_with_orders(play, pane.of, &bars, clock);
        let price = |line: u16| price_at(&made, line, high.saturating_sub(above));
        let line = y.checked_sub(top + above)?;
        let decimals = play.played[pane.of].info.edition.scale.price;
        let unit = stavel_core::model::price::unit(decimals) as f64;
        match pointer {
            Pointer::Press(..) => {
                let (here, next) = (price(line)?, price(line + 1));
                let near = (here - next.unwrap_or(here)).abs().max(1.0 / unit);
                let of = pane.of;
                let orders = play.replay.desk().orders().iter().filter(|o| o.of == of);
                let close = |o: &&stavel_core::rehearse::Order| {
                    o.price().is_some_and(|p| (as_float(p, decimals) - here).abs() <= near)
                };
                self.dragged = orders.filter(close).map(|o| o.id).next();
                let dragged = self.dragged;
                if let Some(play) = &mut self.play {
                    (play.focus, play.chosen) = (place, dragged);
                }
                Some(dragged.map_or_else(Effects::new, |_| say("drag it to its new price")))
            }
            Pointer::Release(..) => {
                let order = self.dragged.take()?;
                let traded = &play.replay.desk().traded()[pane.of];
                let step = traded.sheet.tick_points(traded.decimals).unwrap_or(1);
                let points = (price(line)? * unit / step as f64).round() as i64 * step;
                let _ = view;
                Some(self.move_to(order, points))
            }
            _ => self.dragged.map(|_| Effects::new()),
        }
    }
}

/// The bars of the pane that is worked in.
pub fn bars_of(play: &Play, most: usize) -> Columns {
    play.panes.get(play.focus).map_or_else(Columns::default, |pane| pane.bars(most, play.tape()))
}

/// Orders further from the bars than so many times their height are told instead of drawn: the bars would be flat.
const REACH: f64 = 2.0;

/// The scene of bars whose scale reaches to what is held and to the orders near it.
pub fn scene_with_orders(play: &Play, of: usize, bars: &Columns, clock: &Clock) -> Scene {
    let mut made = scene(&SceneRequest::of(bars, clock));
    let desk = play.replay.desk();
    let unit = stavel_core::model::price::unit(desk.traded()[of].decimals) as f64;
    let orders = desk.orders().iter().filter(|o| o.of == of).filter_map(|o| Some(o.price()? as f64 / unit));
    let held = desk.account().holdings().iter().filter(|h| h.of == of).map(|h| h.mean_price() / unit);
    if let Some(pane) = made.panes.first_mut() {
        let (low, high) = (pane.low, pane.high);
        let reach = (high - low) * REACH;
        for price in orders.chain(held).filter(|price| (low - reach..=high + reach).contains(price)) {
            // A little more, so that its line is not on the edge.
            let more = (high - low) * 0.04;
            (pane.low, pane.high) = (pane.low.min(price - more), pane.high.max(price + more));
        }
    }
    made
}

/// Clocks and the quote.
fn draw_head(play: &Play, pace: usize, view: &View<'_>, canvas: &mut Canvas<'_>) {
    let (mark, colour) = if play.running { ("▶", theme::GOOD) } else { ("‖ held", theme::RISING) };
    let clock = &play.instrument().sheet.session.clock;
    let now = play.now.div_euclid(SECOND) * SECOND;
    let x = canvas.put(1, 0, &format!("{mark} {}", pace_in_words(pace)), theme::strong().fg(colour));
    let own = view.settings.clock.as_ref().filter(|own| *own != clock);
    let hour = |t: Micros| wall(t)[11..].to_owned();
    let mut words = format!("  {} {clock}", wall(clock.to_wall(now)));
    if *clock != Clock::utc() {
        words.push_str(&format!(" · {} UTC", hour(now)));
    }
    if let Some(own) = own {
        words.push_str(&format!(" · {} {own}", hour(own.to_wall(now))));
    }
    let x = canvas.put(x, 0, &words, theme::words());
    if let Some(why) = play.why_still() {
        canvas.put(x + 2, 0, &why, theme::words().fg(theme::RISING));
    }
    draw_quote(play, canvas);
}

fn draw_quote(play: &Play, canvas: &mut Canvas<'_>) {
    // On a small screen the numbers matter more than what is usual; the series stands in the title.
    let is_small = canvas.width() < 100;
    let name = match (is_small, play.played.len()) {
        (true, 1) => String::new(),
        (true, _) => format!("{}  ", play.instrument().name),
        (false, _) => format!("{}  ", play.called(play.of())),
    };
    let x = canvas.put(1, 1, &name, theme::faint());
    let Some(quote) = play.quote() else {
        canvas.put(x, 1, "no price yet", theme::faint());
        return;
    };
    let decimals = play.decimals();
    let desk = play.replay.desk();
    let spread = quote.ask - quote.bid;
    let usual = play.tape().spreads().at(quote.time).filter(|_| !is_small);
    let usual = usual.map(|(points, _)| format!(" usual {points}")).unwrap_or_default();
    let open = desk.open_profit().map_or("not known".to_owned(), |profit| {
        let money = money_to(profit, play.money_decimals);
        format!("{}{money} {}", sign_of(&money), play.currency)
    });
    let rises = !open.starts_with('-');
    let position = desk.account().position(play.of());
    let mut pieces = vec![
        ("bid ".to_owned(), theme::faint()),
        (scaled(quote.bid, decimals), theme::strong().fg(theme::FALLING)),
        ("  ask ".to_owned(), theme::faint()),
        (scaled(quote.ask, decimals), theme::strong().fg(theme::RISING)),
        (format!("  spread {spread}{usual}"), theme::words()),
        (format!("   position {}", lots_text(position)), theme::words()),
    ];
    if !desk.account().holdings().is_empty() {
        pieces.push(("   open ".to_owned(), theme::faint()));
        pieces.push((open, theme::strong().fg(if rises { theme::GOOD } else { theme::WRONG })));
    }
    canvas.pieces(x, 1, &pieces);
}

/// The colour of an order's line, by what it is for.
fn order_colour(role: OrderRole) -> Color {
    match role {
        OrderRole::Stop => theme::WRONG,
        OrderRole::Target => theme::GOOD,
        OrderRole::Entry | OrderRole::Close => theme::CHOSEN,
    }
}

/// Bid, ask, the mean price of what is held and the orders, marked on the scale, and the deals at their bars.
fn marks_of(play: &Play, of: usize, bars: &Columns) -> SceneMarks {
    let desk = play.replay.desk();
    let decimals = desk.traded()[of].decimals;
    let price = |points: i64| as_float(points, decimals);
    let mut levels = Vec::new();
    for order in desk.orders().iter().filter(|o| o.of == of) {
        let Some(at) = order.price() else { continue };
        let name = match order.role {
            OrderRole::Stop => "stp",
            OrderRole::Target => "tgt",
            _ => "ord",
        };
        levels.push(PriceLevel { price: price(at), name, colour: order_colour(order.role) });
    }
    if let Some(mean) = desk.account().mean_price(of) {
        let mean = mean / stavel_core::model::price::unit(decimals) as f64;
        levels.push(PriceLevel { price: mean, name: "own", colour: theme::GOOD });
    }
    if let Some(quote) = desk.quote(of) {
        levels.push(PriceLevel { price: price(quote.ask), name: "ask", colour: theme::RISING });
        levels.push(PriceLevel { price: price(quote.bid), name: "bid", colour: theme::FALLING });
    }
    let first = bars.time.first().copied().unwrap_or(Micros::MAX);
    let points = desk.deals().filter(|deal| deal.of == of && deal.time >= first).map(|deal| PricePoint {
        slot: bars.time.partition_point(|t| *t <= deal.time).saturating_sub(1),
        price: price(deal.price),
        mark: if deal.direction == Direction::Buy { "▲" } else { "▼" },
        colour: if deal.doubtful { theme::WRONG } else { theme::CHOSEN },
    });
    let points = points.collect();
    SceneMarks { levels, points, ..SceneMarks::default() }
}

/// What an order's line is, in words at its left: one that is chosen has a mark.
fn draw_order_words(play: &Play, of: usize, made: &Scene, mut canvas: Canvas<'_>) {
    let desk = play.replay.desk();
    let Some(pane) = made.panes.first() else { return };
    let inside = canvas.height().saturating_sub(1);
    let height = (f64::from(inside) * if made.panes.len() == 1 { 1.0 } else { pane.share }).round().max(1.0);
    let unit = stavel_core::model::price::unit(desk.traded()[of].decimals) as f64;
    let line = |price: f64| {
        let share = pane.share_of(price);
        (0.0..=1.0).contains(&share).then(|| ((1.0 - share) * (height - 1.0)).round() as u16)
    };
    let mut taken: Vec<u16> = Vec::new();
    let mut put = |y: Option<u16>, text: &str, colour: Color, canvas: &mut Canvas<'_>| {
        let Some(y) = y else { return };
        // Two lines of words at one place would hide each other.
        let free =
            [Some(y), y.checked_sub(1), Some(y + 1)].into_iter().flatten().find(|y| !taken.contains(y));
        let Some(y) = free.filter(|y| *y < height as u16) else { return };
        taken.push(y);
        // The newest bars stand at the right.
        let room = canvas.width().saturating_sub(LABELS + 2);
        if columns(text) <= room {
            canvas.put(1, y, text, theme::strong().fg(colour));
        }
    };
    for holding in desk.account().holdings().iter().filter(|h| h.of == of) {
        let verb = if holding.direction == Direction::Buy { "bought" } else { "sold" };
        let mean = holding.mean_price() / unit;
        let decimals = usize::from(desk.traded()[of].decimals);
        let text = format!(" {verb} {} at {mean:.decimals$} ", lots_text(holding.lots));
        put(line(mean), &text, theme::WORDS, &mut canvas);
    }
    for order in desk.orders().iter().filter(|o| o.of == of) {
        let Some(price) = order.price() else { continue };
        let mark = if play.chosen == Some(order.id) { "▸" } else { " " };
        let text = format!("{mark}{} ", level_in_words(play, order));
        put(line(price as f64 / unit), &text, order_colour(order.role), &mut canvas);
    }
    let off: Vec<String> = desk
        .orders()
        .iter()
        .filter(|o| o.of == of && o.price().is_some_and(|p| line(p as f64 / unit).is_none()))
        .map(|o| level_in_words(play, o))
        .collect();
    if let Some(first) = off.first() {
        let more = if off.len() > 1 { format!(" and {} more", off.len() - 1) } else { String::new() };
        canvas.put(1, inside.saturating_sub(1), &format!("beyond the scale: {first}{more}"), theme::faint());
    }
}
