//! The report of a rehearsal: what it came to, with pictures.

use rust_decimal::prelude::ToPrimitive;
use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::price::as_float;
use stavel_core::model::time::{MINUTE, length_in_words, wall};
use stavel_core::model::{Columns, Field, Micros, Scale, Span};
use stavel_core::rehearse::{Direction, Figures, TradeSum, figures_of, lots_text, money, trades_of};
use stavel_core::store::Shelf;
use stavel_draw::{
    BarStyle, DealAt, Dossier, DossierLine, DossierPicture, DossierSection, Layer, LineTone, SceneRequest,
    scene,
};

use super::ask_beside::ask_in_words;
use super::opening::Opened;
use super::words::journal_lines;
use crate::chart_bars::{ChartRoom, ChartSource, bars_for_chart};

/// Bars of the picture of prices, at most.
const BARS: usize = 400;
/// Trades and lines of the journal that are told one by one.
const TOLD: usize = 200;

fn plain(text: impl Into<String>) -> DossierLine {
    DossierLine::new(LineTone::Plain, text)
}

fn doubt(text: impl Into<String>) -> DossierLine {
    DossierLine::new(LineTone::Doubt, text)
}

fn section(heading: &str, lines: Vec<DossierLine>, pictures: Vec<DossierPicture>) -> DossierSection {
    DossierSection { heading: heading.into(), lines, pictures }
}

/// The report of a rehearsal.
///
/// # Errors
/// Where rows cannot be read.
pub(super) fn report_of(shelf: &Shelf, opened: &Opened, job: &Job) -> Result<Dossier> {
    let desk = opened.replay.desk();
    let figures = figures_of(desk, opened.began);
    let names: Vec<String> = opened.played.iter().map(|one| one.info.name.to_string()).collect();
    let title = format!(
        "{}  rehearsed {} … {}",
        names.join(", "),
        &wall(opened.began)[..16],
        &wall(desk.now().min(last_of(opened)))[..16]
    );
    let sections = vec![
        section("what it came to", figure_lines(opened, &figures), curve_picture(opened, &figures)),
        section("prices and fills", Vec::new(), price_pictures(shelf, opened, job)?),
        section("trades", trade_lines(opened), Vec::new()),
        section("journal", journal_part(opened), Vec::new()),
        section("what it rests on", rests_on(opened), Vec::new()),
    ];
    Ok(Dossier { title, sections })
}

fn last_of(opened: &Opened) -> Micros {
    let ends = (0..opened.played.len()).filter_map(|of| opened.replay.desk().quote(of));
    ends.map(|quote| quote.time).max().unwrap_or(opened.began)
}

fn figure_lines(opened: &Opened, figures: &Figures) -> Vec<DossierLine> {
    let currency = &opened.currency;
    let all = &figures.all;
    let share =
        (all.won * 100).checked_div(all.trades).map_or(String::new(), |share| format!(" ({share} %)"));
    let mut lines = vec![
        plain(format!("{} trades, {} of them won{share}", all.trades, all.won)),
        plain(format!(
            "net {} {currency}: gains {}, losses {}; commission and swap of {} are in it",
            money(all.net),
            money(figures.gains),
            money(figures.losses),
            money(figures.costs)
        )),
        plain(match figures.expectancy {
            Some(mean) => format!("a trade earned {} {currency} in the mean", money(mean)),
            None => "no trade was closed".to_owned(),
        }),
        plain(format!(
            "deepest fall {} {currency} of what was closed, {} with what was open",
            money(figures.drawdown),
            money(figures.deepest)
        )),
        plain(format!(
            "something was held for {} of {}",
            length_in_words(figures.in_market),
            length_in_words(figures.played.max(0))
        )),
    ];
    if figures.doubtful > 0 {
        lines.push(doubt(format!(
            "{} trades are in doubt{}",
            figures.doubtful,
            super::why_in_doubt(opened.replay.desk())
        )));
    }
    let told = |name: String, sum: &TradeSum| {
        plain(format!("{name}: {} trades, {} won, net {} {currency}", sum.trades, sum.won, money(sum.net)))
            .below(1)
    };
    if !figures.by_hour.is_empty() {
        lines.push(plain("by the hour of opening, UTC"));
        lines.extend(figures.by_hour.iter().map(|(hour, sum)| told(format!("{hour:02}:00"), sum)));
    }
    if figures.by_tag.keys().any(|tag| !tag.is_empty()) {
        lines.push(plain("by the word of the order"));
        let name = |tag: &String| if tag.is_empty() { "without one".to_owned() } else { tag.clone() };
        lines.extend(figures.by_tag.iter().map(|(tag, sum)| told(name(tag), sum)));
    }
    lines
}

/// The sum of what was closed and paid as a line.
fn curve_picture(opened: &Opened, figures: &Figures) -> Vec<DossierPicture> {
    let fields = vec![Field::Open, Field::High, Field::Low, Field::Close];
    let mut rows = Columns::empty(&fields, Scale { price: 2, volume: 0 });
    let first = (opened.began, 0);
    let points = figures.curve.iter().filter_map(|(time, sum)| {
        Some((*time, (sum * rust_decimal::Decimal::ONE_HUNDRED).round().to_i64()?))
    });
    for (time, cents) in std::iter::once(first).chain(points) {
        // Of deals of one moment the last stands.
        if rows.time.last() == Some(&time) {
            rows.truncate(rows.len() - 1);
        }
        rows.time.push(time);
        rows.data.iter_mut().for_each(|column| column.push(cents));
    }
    if rows.len() < 2 {
        return Vec::new();
    }
    let clock = &opened.played[0].instrument.sheet.session.clock;
    let title = format!("what was closed and paid, {}", opened.currency);
    let request = SceneRequest { title, style: BarStyle::Line, ..SceneRequest::of(&rows, clock) };
    let mut made = scene(&request);
    for pane in &mut made.panes {
        pane.name.clone_from(&opened.currency);
        for layer in &mut pane.layers {
            if let Layer::Line { name, .. } = layer {
                *name = "sum of all until then".to_owned();
            }
        }
    }
    vec![DossierPicture::Chart(made)]
}

/// The prices of each instrument, with its fills.
fn price_pictures(shelf: &Shelf, opened: &Opened, job: &Job) -> Result<Vec<DossierPicture>> {
    let desk = opened.replay.desk();
    let mut pictures = Vec::new();
    for (of, one) in opened.played.iter().enumerate() {
        // Nothing of a bar that is not over, nor of what comes after it.
        let (piece, at) = opened.replay.tapes()[of].piece();
        let next = piece.rows.time.get(piece.rows_over(at)).copied();
        let Some(quote) = desk.quote(of) else { continue };
        let until = next.unwrap_or(quote.time + 1);
        let deals: Vec<DealAt> = desk
            .deals()
            .filter(|deal| deal.of == of)
            .map(|deal| DealAt {
                time: deal.time,
                price: as_float(deal.price, one.info.edition.scale.price),
                is_buy: deal.direction == Direction::Buy,
            })
            .collect();
        // A day about the deals where they fill only a part of the time.
        let from = deals.first().map_or(opened.began, |deal| (deal.time - 60 * MINUTE).max(opened.began));
        let span = Span::new(from.min(until - 1), until);
        let mut chart =
            bars_for_chart(shelf, ChartSource::rows(&one.info), span, ChartRoom::AtMost(BARS), 0, job)?;
        // The deals of practice are at the prices that were seen.
        if let Some(factor) = opened.factor {
            chart.bars = factor.rows(chart.bars);
        }
        if chart.bars.len() < 2 {
            continue;
        }
        let frame = chart.frame.map(|frame| frame.to_string()).unwrap_or_default();
        let title = format!("{} {frame}", one.info.name);
        let clock = &one.instrument.sheet.session.clock;
        let request = SceneRequest { title, deals: &deals, ..SceneRequest::of(&chart.bars, clock) };
        pictures.push(DossierPicture::Chart(scene(&request)));
    }
    Ok(pictures)
}

fn trade_lines(opened: &Opened) -> Vec<DossierLine> {
    let desk = opened.replay.desk();
    let trades = trades_of(desk);
    let count = trades.len();
    let mut lines: Vec<DossierLine> = trades
        .iter()
        .take(TOLD)
        .map(|trade| {
            let traded = &desk.traded()[trade.of];
            let decimals = usize::from(traded.decimals);
            let unit = stavel_core::model::price::unit(traded.decimals) as f64;
            let verb = if trade.direction == Direction::Buy { "bought" } else { "sold" };
            let text = format!(
                "{} {} {verb} {} at {:.*}, closed {} at {:.*}: net {} {}; best {:+.0} points, worst {:+.0}",
                wall(trade.opened),
                traded.name,
                lots_text(trade.lots),
                decimals,
                trade.entry() / unit,
                wall(trade.closed),
                decimals,
                trade.exit() / unit,
                money(trade.net()),
                opened.currency,
                trade.best,
                trade.worst
            );
            if trade.doubtful { doubt(format!("{text}; in doubt")) } else { plain(text) }
        })
        .collect();
    if count > TOLD {
        lines.push(plain(format!("and {} more", count - TOLD)));
    }
    if lines.is_empty() {
        lines.push(plain("none was closed"));
    }
    lines
}

fn journal_part(opened: &Opened) -> Vec<DossierLine> {
    let all = journal_lines(opened.replay.desk(), &opened.currency, 2);
    let mut lines: Vec<DossierLine> = all.iter().take(TOLD).map(plain).collect();
    if all.len() > TOLD {
        lines.push(plain(format!("and {} more lines", all.len() - TOLD)));
    }
    lines
}

fn rests_on(opened: &Opened) -> Vec<DossierLine> {
    let rules = opened.replay.desk().rules();
    let mut lines = vec![plain(format!(
        "{}; slippage {} points, latency {}, a limit is filled when the price {} it",
        if rules.hedged {
            "buys and sales are held beside each other"
        } else {
            "one position for each instrument"
        },
        rules.slippage,
        if rules.latency == 0 { "none".to_owned() } else { format!("{} ms", rules.latency / 1000) },
        match rules.queue {
            stavel_core::rehearse::Queue::Touch => "touches",
            stavel_core::rehearse::Queue::Through => "goes through",
        }
    ))];
    lines.push(match rules.balance {
        Some(balance) => plain(format!(
            "{balance} {} at the beginning; everything is closed below {} % of the margin",
            opened.currency,
            (rules.call * rust_decimal::Decimal::ONE_HUNDRED).normalize()
        )),
        None => plain("nobody has said what was in the account: margin is not looked at"),
    });
    for one in &opened.played {
        lines.push(plain(format!("{}, edition {}", one.info.name, one.info.edition.number)));
        lines.extend(one.rebuilt().map(|rebuilt| doubt(rebuilt).below(1)));
        lines.extend(one.ask.iter().map(|ask| plain(ask_in_words(ask)).below(1)));
        lines.extend(one.depth.iter().map(|depth| plain(depth.in_words()).below(1)));
        if one.in_points {
            lines.push(
                doubt("nobody has said what a step of its price is worth: all is in points, without costs")
                    .below(1),
            );
        }
        lines.extend(one.instrument.doubts().into_iter().map(|text| doubt(text).below(1)));
    }
    lines.extend(opened.doubts.iter().map(doubt));
    lines
}
