//! The report of a check as one page: an upright sheet to keep with the data, in HTML or PDF.

use maud::{DOCTYPE, PreEscaped, html};
use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, DrawingBackend, Rectangle};
use plotters::style::{Color, RGBColor};
use stavel_core::Result;
use stavel_core::check::{CheckReport, Finding, FindingKind, GradeLoss, Severity};
use stavel_core::error::printable;
use stavel_core::model::SeriesName;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{civil_from_days, date, days_from_civil, length_in_words, wall};

use crate::picture::{DrawResult, FINE, Picture, colour, words};
use crate::svg::to_svg;

/// The sheet in points, in the proportions of A4.
const SIZE: (u32, u32) = (840, 1188);
const HEIGHT: f64 = SIZE.1 as f64;
const LEFT: f64 = 44.0;
const INSIDE: f64 = SIZE.0 as f64 - 2.0 * LEFT;

const PAPER: RGBColor = colour(0xffffff);
const INK: RGBColor = colour(0x1c2128);
const FAINT: RGBColor = colour(0x6a7280);
const RULE: RGBColor = colour(0xd5d9e0);
const FULL: [u8; 3] = [0x2f, 0x7f, 0x8c];
const WRONG: RGBColor = colour(0xc0392b);
const DOUBT: RGBColor = colour(0xb7862b);
const NOTE: RGBColor = colour(0x6a7280);

/// What the sheet says.
pub struct ReportPage<'a> {
    pub series: &'a SeriesName,
    pub edition: i64,
    /// The clock the times are told in: UTC, or as written.
    pub clock: String,
    pub decimals: u8,
    pub report: &'a CheckReport,
    /// What is wrong with the rows of a finding, in a few words.
    pub finding_words: fn(&Finding) -> String,
    /// Points taken off the grade, and what for.
    pub loss_words: fn(&GradeLoss) -> String,
}

/// A sheet that is filled from the top. What is put on it lies where it says, in points.
#[derive(Default)]
struct PaperSheet {
    words: Vec<(f64, f64, String, f64, RGBColor)>,
    blocks: Vec<(f64, f64, f64, f64, RGBColor)>,
    y: f64,
}

impl PaperSheet {
    /// Words that stand on the line reached.
    fn text(&mut self, x: f64, text: &str, size: f64, colour: RGBColor) {
        self.words.push((LEFT + x, self.y, printable(text), size, colour));
    }

    fn block(&mut self, x: f64, y: f64, (width, height): (f64, f64), colour: RGBColor) {
        self.blocks.push((LEFT + x, y, width, height, colour));
    }

    fn rule(&mut self) {
        self.y += 10.0;
        self.block(0.0, self.y, (INSIDE, 1.0), RULE);
        self.y += 22.0;
    }

    fn heading(&mut self, text: &str) {
        self.text(0.0, text, 13.0, INK);
        self.y += 20.0;
    }
}

impl Picture for ReportPage<'_> {
    fn size(&self) -> (u32, u32) {
        SIZE
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        area.fill(&PAPER)?;
        let fine = |points: f64| (points * f64::from(FINE)).round() as i32;
        let sheet = filled(self);
        for (x, y, width, height, colour) in sheet.blocks {
            let corners = [(fine(x), fine(y)), (fine(x + width), fine(y + height))];
            area.draw(&Rectangle::new(corners, colour.filled()))?;
        }
        for (x, y, text, size, colour) in sheet.words {
            // The upper edge of letters lies above the line on which they stand.
            area.draw_text(&printable(&text), &words(size as i32, colour), (fine(x), fine(y - size * 0.76)))?;
        }
        Ok(())
    }
}

/// The sheet of a page.
fn filled(page: &ReportPage<'_>) -> PaperSheet {
    let mut sheet = PaperSheet { y: 60.0, ..PaperSheet::default() };
    head(&mut sheet, page);
    sheet.rule();
    years(&mut sheet, page.report);
    sheet.rule();
    numbers(&mut sheet, page);
    sheet.rule();
    week(&mut sheet, page.report);
    sheet.rule();
    findings(&mut sheet, page);
    sheet
}

fn head(sheet: &mut PaperSheet, page: &ReportPage<'_>) {
    let r = page.report;
    sheet.text(0.0, &page.series.to_string(), 24.0, INK);
    sheet.text(INSIDE - 150.0, &format!("grade {}", r.grade.points), 24.0, INK);
    sheet.y += 24.0;
    let span = format!(
        "edition {}, {} rows, {} … {} ({})",
        page.edition,
        r.rows,
        wall(r.first),
        wall(r.last),
        page.clock
    );
    sheet.text(0.0, &span, 11.0, FAINT);
    sheet.y += 18.0;
    let losses: Vec<String> = r.grade.losses.iter().take(4).map(page.loss_words).collect();
    let losses = if losses.is_empty() { "no points lost".to_owned() } else { losses.join(",  ") };
    sheet.text(0.0, &losses, 10.0, FAINT);
}

/// A year a line, each day shaded by how full it is, with a mark where something was found.
fn years(sheet: &mut PaperSheet, report: &CheckReport) {
    sheet.heading("Completeness by day");
    let year_of = |day: i64| civil_from_days(day).0;
    let (Some(first), Some(last)) = (report.days.first(), report.days.last()) else { return };
    // Twenty years fit; of longer histories the latest are shown.
    let from = year_of(first.day).max(year_of(last.day) - 19);
    let (label, each) = (46.0, (INSIDE - 46.0) / 366.0);
    for year in from..=year_of(last.day) {
        sheet.text(0.0, &year.to_string(), 10.0, FAINT);
        let start = days_from_civil(year, 1, 1);
        let y = sheet.y;
        for d in report.days.iter().filter(|d| year_of(d.day) == year) {
            let x = label + (d.day - start) as f64 * each;
            sheet.block(x, y - 9.0, (each, 9.0), shade(d.share()));
        }
        let worth = |k: FindingKind| {
            !matches!(k, FindingKind::ClosedMarket | FindingKind::StubDay | FindingKind::Missing)
        };
        for f in report.findings.iter().filter(|f| worth(f.kind)) {
            let day = stavel_core::model::time::day_of(f.span.from);
            if year_of(day) == year {
                let x = label + (day - start) as f64 * each;
                sheet.block(x, y + 1.0, (each.max(2.0), 3.0), colour_of(f.kind.severity()));
            }
        }
        sheet.y += 17.0;
    }
    sheet.text(label, "white: no rows    dark: full    below a day: something was found", 9.0, FAINT);
}

/// From paper to full.
fn shade(share: f64) -> RGBColor {
    let mix = |full: u8| (255.0 - (255.0 - full as f64) * share.clamp(0.0, 1.0).powi(2)) as u8;
    RGBColor(mix(FULL[0]), mix(FULL[1]), mix(FULL[2]))
}

fn colour_of(severity: Severity) -> RGBColor {
    match severity {
        Severity::Fault => WRONG,
        Severity::Doubt => DOUBT,
        Severity::Note => NOTE,
    }
}

fn numbers(sheet: &mut PaperSheet, page: &ReportPage<'_>) {
    let r = page.report;
    let price =
        |e: stavel_core::check::Extreme| format!("{}  at {}", scaled(e.points, page.decimals), wall(e.at));
    let hole = r
        .largest_gap()
        .map_or("none".to_owned(), |g| format!("{}  from {}", length_in_words(g.open), wall(g.span.from)));
    let spread = r.spread.map_or("not known".to_owned(), |s| {
        format!("median {}, 90 % {}, 99 % {}, most {} points", s.median, s.p90, s.p99, s.max)
    });
    let missing: Vec<String> = r.missing_days().map(date).collect();
    let days = match missing.len() {
        0 => "none".to_owned(),
        1..=4 => missing.join(", "),
        n => format!("{n}, the first {}", missing[0]),
    };
    let lines = [
        (
            "covered",
            match (r.coverage, r.minutes_missing()) {
                (Some(share), Some(minutes)) => {
                    format!("{:.2} % of open time; {minutes} minutes missing", share * 100.0)
                }
                _ => "not known while it is afloat".to_owned(),
            },
        ),
        ("empty days", days),
        ("largest hole", hole),
        ("largest high - low", price(r.max_range)),
        ("largest close - open", price(r.max_body)),
        ("largest step between rows", price(r.max_gap)),
        ("spread", spread),
        ("rows a minute", format!("{:.2}", r.rows_a_minute())),
        (
            "filler",
            format!(
                "{} rows in closed hours; {} quiet rows in open hours are kept",
                r.filler_closed, r.filler_open
            ),
        ),
    ];
    sheet.heading("Numbers");
    for (name, value) in lines {
        sheet.text(0.0, name, 10.0, FAINT);
        sheet.text(190.0, &value, 10.0, INK);
        sheet.y += 16.0;
    }
    sheet.y -= 12.0;
}

/// Movement and spread by hour of the week, side by side.
fn week(sheet: &mut PaperSheet, report: &CheckReport) {
    sheet.heading("Hours of the week");
    let top = sheet.y;
    let movement: Vec<f64> = report.hours.iter().map(stavel_core::check::HourStats::movement).collect();
    let spread: Vec<f64> = report.hours.iter().map(|h| h.spread.unwrap_or(0) as f64).collect();
    for (x, title, hours) in
        [(0.0, "points moved an hour", &movement), (INSIDE / 2.0 + 10.0, "median spread in points", &spread)]
    {
        sheet.y = top;
        let most = hours.iter().copied().fold(0.0, f64::max);
        sheet.text(
            x,
            &if most > 0.0 { format!("{title}, up to {most:.0}") } else { format!("{title}: not known") },
            9.0,
            FAINT,
        );
        if most == 0.0 {
            continue;
        }
        for (day, name) in ["mon", "tue", "wed", "thu", "fri", "sat", "sun"].iter().enumerate() {
            sheet.y += 13.0;
            sheet.text(x, name, 9.0, FAINT);
            for hour in 0..24 {
                let value = hours.get(day * 24 + hour).copied().unwrap_or(0.0);
                if value > 0.0 {
                    let y = sheet.y - 9.0;
                    sheet.block(x + 28.0 + hour as f64 * 13.5, y, (12.5, 11.0), shade((value / most).sqrt()));
                }
            }
        }
    }
    sheet.y = top + 7.0 * 13.0 + 4.0;
}

fn findings(sheet: &mut PaperSheet, page: &ReportPage<'_>) {
    let report = page.report;
    sheet.heading(&format!("Findings: {}", report.findings.len()));
    for &kind in FindingKind::ALL {
        let (n, rows) = report.count(kind);
        if n == 0 || sheet.y > HEIGHT - 40.0 {
            continue;
        }
        let y = sheet.y - 8.0;
        sheet.block(0.0, y, (8.0, 8.0), colour_of(kind.severity()));
        sheet.text(16.0, kind.word(), 10.0, INK);
        sheet.text(140.0, &format!("{n} ({rows} rows)"), 10.0, INK);
        let first = report.findings.iter().find(|f| f.kind == kind);
        let first =
            first.map(|f| format!("{}  {}", wall(f.span.from), (page.finding_words)(f))).unwrap_or_default();
        let short: String = first.chars().take(74).collect();
        sheet.text(280.0, &short, 10.0, FAINT);
        sheet.y += 16.0;
    }
    if report.findings.is_empty() {
        sheet.text(0.0, "Nothing was found.", 10.0, INK);
    }
}

/// The sheet as a page of its own, with every finding in a table below it.
///
/// # Errors
/// Where the picture cannot be drawn.
pub fn html(page: &ReportPage<'_>) -> Result<String> {
    let picture = to_svg(page)?;
    let hex = |RGBColor(r, g, b): RGBColor| format!("#{r:02x}{g:02x}{b:02x}");
    let (ink, rule) = (hex(INK), hex(RULE));
    let style = format!(
        "body{{font-family:monospace;max-width:60em;margin:2em auto;color:{ink}}}\
         table{{border-collapse:collapse;width:100%;font-size:.8em}}\
         td,th{{text-align:left;padding:.2em .6em;border-bottom:1px solid {rule}}}"
    );
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                title { (printable(&format!("Check of {}", page.series))) }
                style { (PreEscaped(style)) }
            }
            body {
                (PreEscaped(picture))
                table {
                    tr { th { "kind" } th { "from" } th { "to" } th { "rows" } th { "what" } }
                    @for f in &page.report.findings {
                        tr {
                            td { (f.kind.word()) }
                            td { (wall(f.span.from)) }
                            td { (wall(f.span.to)) }
                            td { (f.rows) }
                            td { (printable(&(page.finding_words)(f))) }
                        }
                    }
                }
            }
        }
    };
    Ok(page.into_string() + "\n")
}
