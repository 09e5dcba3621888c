//! A rehearsal as a file: a report with pictures, or its fills as a table.

use std::path::Path;

use rust_decimal::prelude::ToPrimitive;
use stavel_core::job::Job;
use stavel_core::model::price::{as_float, scaled};
use stavel_core::model::time::{MINUTE, length_in_words, rfc3339, wall};
use stavel_core::model::{Columns, Field, Micros, Scale, Span};
use stavel_core::rehearse::{Direction, Figures, TradeSum, figures_of, lots_text, money, trades_of};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_draw::{
    BarStyle, DealAt, Dossier, DossierLine, DossierPicture, DossierSection, Layer, LineTone, SceneRequest,
    scene,
};

use super::opening::Opened;
use super::words::journal_lines;
use crate::chart_bars::{ChartRoom, ChartSource, bars_for_chart};
use crate::page::write_file;

/// Bars of the picture of prices, at most.
const BARS: usize = 400;
/// Trades and lines of the journal that are told one by one.
const TOLD: usize = 200;

/// Writes a rehearsal into a file: a report as `.html` or `.pdf`, its fills as `.csv`.
///
/// # Errors
/// Where the ending is another, or the file cannot be written.
pub fn write_rehearsal(shelf: &Shelf, opened: &Opened, out: &Path, job: &Job) -> Result<u64> {
    let bytes = match out.extension().and_then(|e| e.to_str()) {
        Some("csv") => fills_csv(opened)?,
        Some("html") => report_of(shelf, opened, job)?.to_html()?.into_bytes(),
        Some("pdf") => report_of(shelf, opened, job)?.to_pdf()?,
        _ => {
            return Err(Error::arguments(format!(
                "{} must end in .html or .pdf for a report, or in .csv for the fills.",
                out.display()
            )));
        }
    };
    write_file(out, &bytes)?;
    Ok(bytes.len() as u64)
}

/// Every fill as a line: exact prices and money.
fn fills_csv(opened: &Opened) -> Result<Vec<u8>> {
    let desk = opened.replay.desk();
    let mut writer = csv::Writer::from_writer(Vec::new());
    let cannot = |e: csv::Error| Error::storage(format!("The fills cannot be written: {e}."));
    let names = [
        "time",
        "instrument",
        "side",
        "lots",
        "price",
        "commission",
        "profit",
        "reason",
        "order",
        "doubtful",
    ];
    writer.write_record(names).map_err(cannot)?;
    for deal in desk.deals() {
        let traded = &desk.traded()[deal.of];
        let side = if deal.direction == Direction::Buy { "buy" } else { "sell" };
        let line = [
            rfc3339(deal.time),
            traded.name.clone(),
            side.to_owned(),
            lots_text(deal.lots),
            scaled(deal.price, traded.decimals),
            money(deal.commission),
            money(deal.profit),
            deal.reason.to_string(),
            deal.order.to_string(),
            deal.doubtful.to_string(),
        ];
        writer.write_record(line).map_err(cannot)?;
    }
    writer.into_inner().map_err(|e| Error::storage(format!("The fills cannot be written: {e}.")))
}

fn plain(text: impl Into<String>) -> DossierLine {
    DossierLine::new(LineTone::Plain, text)
}

fn doubt(text: impl Into<String>) -> DossierLine {
    DossierLine::new(LineTone::Doubt, text)
}

fn section(heading: &str, lines: Vec<DossierLine>, pictures: Vec<DossierPicture>) -> DossierSection {
    DossierSection { heading: heading.into(), lines, pictures }
}

fn report_of(shelf: &Shelf, opened: &Opened, job: &Job) -> Result<Dossier> {
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
            "{} trades are in doubt: within a bar it is not known what came first, so the worse was taken",
            figures.doubtful
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
        let chart =
            bars_for_chart(shelf, ChartSource::rows(&one.info), span, ChartRoom::AtMost(BARS), 0, job)?;
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
    let count = trades_of(desk).count();
    let mut lines: Vec<DossierLine> = trades_of(desk)
        .take(TOLD)
        .map(|trade| {
            let traded = &desk.traded()[trade.of];
            let decimals = usize::from(traded.decimals);
            let unit = stavel_core::model::price::unit(traded.decimals) as f64;
            let verb = if trade.direction == Direction::Buy { "bought" } else { "sold" };
            let text = format!(
                "{} {} {verb} {} at {:.*}, closed {} at {}: net {} {}; best {:+.0} points, worst {:+.0}",
                wall(trade.opened),
                traded.name,
                lots_text(trade.lots),
                decimals,
                trade.entry() / unit,
                wall(trade.closed),
                scaled(trade.exit, traded.decimals),
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
