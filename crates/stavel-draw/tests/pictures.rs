//! Pictures as other programs read them: SVG as XML, PDF by its table of objects, and values that are hard to draw.

use stavel_core::model::time::{DAY, HOUR};
use stavel_core::model::{ABSENT, Clock, Columns, Field, Scale};
use stavel_draw::{Layer, Scene, SceneRequest, scene, to_pdf, to_svg};

/// Bars whose prices go up and down, in points of so many decimals.
fn bars(count: usize, price: u8, level: i64) -> Columns {
    let fields = vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
    let mut rows = Columns::empty(&fields, Scale { price, volume: 0 });
    for i in 0..count as i64 {
        let open = level + i * 37 % 101;
        let close = level + (i + 1) * 37 % 101;
        rows.time.push(1_709_499_600_000_000 + i * HOUR);
        let values = [open, open.max(close) + 9, open.min(close) - 9, close, 5 + i % 7, 12 + i % 3];
        rows.data.iter_mut().zip(values).for_each(|(column, value)| column.push(value));
    }
    rows
}

fn drawn(rows: &Columns) -> Scene {
    let (title, clock) = ("NOKSEK@quill:1h".into(), Clock::utc());
    scene(&SceneRequest { title, average: Some(3), ..SceneRequest::of(rows, &clock) })
}

/// The names of the elements of an XML text, in the order they begin; panics where it is not well-formed.
fn elements(xml: &str) -> Vec<String> {
    let (mut open, mut all) = (Vec::new(), Vec::new());
    let mut rest = xml.strip_prefix("<?xml version=\"1.0\"?>").unwrap_or(xml);
    while let Some(at) = rest.find('<') {
        let (text, tag) = (&rest[..at], &rest[at + 1..]);
        assert!(!text.contains('>'), "a stray > in {text:?}");
        for entity in text.split('&').skip(1) {
            let name = entity.split(';').next().unwrap();
            assert!(["amp", "lt", "gt", "quot", "apos"].contains(&name) || name.starts_with('#'), "&{name}");
        }
        let end = tag.find('>').expect("a tag that never ends");
        let (inside, after) = (&tag[..end], &tag[end + 1..]);
        assert_eq!(inside.matches('"').count() % 2, 0, "a quote is left open in <{inside}>");
        if let Some(name) = inside.strip_prefix('/') {
            assert_eq!(open.pop().as_deref(), Some(name.trim()), "closed out of order");
        } else if !inside.starts_with('!') {
            let name = inside.split_whitespace().next().unwrap().trim_end_matches('/').to_owned();
            all.push(name.clone());
            if !inside.ends_with('/') {
                open.push(name);
            }
        }
        rest = after;
    }
    assert!(open.is_empty(), "never closed: {open:?}");
    all
}

/// The numbers of attributes that say where something lies.
fn numbers(svg: &str) -> Vec<f64> {
    [" x=\"", " y=\"", " x1=\"", " y1=\"", " x2=\"", " y2=\"", " width=\"", " height=\""]
        .iter()
        .flat_map(|name| svg.split(name).skip(1))
        .map(|rest| rest.split('"').next().unwrap().parse().unwrap())
        .collect()
}

/// Checks that every object of a PDF lies where its table says, and that its streams are as long as they say.
fn assert_sound_pdf(pdf: &[u8]) {
    let text = |from: usize| String::from_utf8_lossy(&pdf[from..]).into_owned();
    let end = text(pdf.len() - 40);
    let start: usize =
        end.split("startxref").nth(1).unwrap().split_whitespace().next().unwrap().parse().unwrap();
    let table = text(start);
    assert!(table.starts_with("xref"), "the table is where the end says");
    let count: usize = table.lines().nth(1).unwrap().split(' ').nth(1).unwrap().trim().parse().unwrap();
    let mut lengths = 0;
    for (number, line) in
        table.lines().skip(2).take(count).enumerate().filter(|(_, line)| line.contains(" n"))
    {
        let at: usize = line[..10].parse().unwrap();
        let object = text(at);
        assert!(object.starts_with(&format!("{number} 0 obj")), "object {number} is not at {at}");
        let object = object.split("endobj").next().unwrap();
        if let Some((head, body)) = object.split_once("stream\n") {
            let length = head.split("/Length ").nth(1).unwrap();
            let length: usize = length.split(|c: char| !c.is_ascii_digit()).next().unwrap().parse().unwrap();
            let from = at + object.find("stream\n").unwrap() + "stream\n".len();
            assert!(
                text(from + length).trim_start().starts_with("endstream"),
                "not {length} long: {body:.60}"
            );
            lengths += length;
        }
    }
    assert!(lengths > 0, "a page has something on it");
}

#[test]
fn files_are_sound_for_any_number_of_bars() {
    for count in [0, 1, 2, 3, 40, 700, 5000] {
        let made = drawn(&bars(count, 5, 102_300));
        let svg = to_svg(&made).unwrap();
        let names = elements(&svg);
        assert_eq!(names[0], "svg");
        assert!(names.iter().filter(|n| *n == "rect").count() >= count, "{count} bars");
        // A quarter of a point is the unit within; the picture is 1200 points wide.
        let inside = |v: &f64| v.is_finite() && *v >= -4.0 && *v <= 4804.0;
        let outside: Vec<f64> = numbers(&svg).into_iter().filter(|v| !inside(v)).collect();
        assert!(outside.is_empty(), "{count} bars: {outside:?}");
        assert_sound_pdf(&to_pdf(&made).unwrap());
    }
}

#[test]
fn words_of_files_are_harmless_in_both_formats() {
    let rows = bars(10, 5, 102_300);
    let (clock, other) = (Clock::utc(), bars(10, 5, 102_400));
    let title = "a & b <c> \"d\" 'e' \\ (f) ]]> \u{1b}[31m";
    let request = SceneRequest {
        title: title.into(),
        with: Some(("x<y>&(z".into(), &other)),
        ..SceneRequest::of(&rows, &clock)
    };
    let made = scene(&request);
    let svg = to_svg(&made).unwrap();
    elements(&svg);
    assert!(svg.contains("a &amp; b &lt;c&gt;") && svg.contains("x&lt;y&gt;&amp;(z"), "{svg:.900}");
    assert!(!svg.contains('\u{1b}'), "no control character is in it");
    let pdf = to_pdf(&made).unwrap();
    assert_sound_pdf(&pdf);
    let text = String::from_utf8_lossy(&pdf);
    assert!(text.contains("\\(f\\)") || text.contains("(f)"), "brackets are kept");
}

#[test]
fn bars_that_all_cost_the_same_have_a_scale_too() {
    for level in [0, 1, -500, 102_300] {
        let mut rows = bars(30, 5, level);
        for field in [Field::Open, Field::High, Field::Low, Field::Close] {
            rows.column_mut(field).unwrap().fill(level);
        }
        let made = drawn(&rows);
        let pane = &made.panes[0];
        assert!(pane.low < pane.high, "{level}: {} … {}", pane.low, pane.high);
        let value = level as f64 / 1e5;
        assert!(pane.low <= value && value <= pane.high);
        assert!(!pane.labels().is_empty() && pane.labels().len() <= 20);
        elements(&to_svg(&made).unwrap());
    }
}

#[test]
fn labels_are_round_and_lie_within_their_pane() {
    for (count, price, level) in
        [(50, 0, 12), (50, 2, 1_234), (50, 5, 102_300), (50, 9, 9_000_000_000), (9, 5, -40)]
    {
        for pane in drawn(&bars(count, price, level)).panes {
            let labels = pane.labels();
            let step = labels.get(1).map_or(1.0, |b| b - labels[0]);
            for pair in labels.windows(2) {
                assert!((pair[1] - pair[0] - step).abs() < step * 1e-6, "{}: {labels:?}", pane.name);
            }
            assert!(labels.iter().all(|l| *l >= pane.low - step * 1e-9 && *l <= pane.high), "{labels:?}");
        }
    }
}

#[test]
fn a_line_is_broken_where_nothing_is_known_and_begins_when_its_mean_can() {
    let rows = bars(20, 5, 102_300);
    let made = drawn(&rows);
    let Layer::Line { name, values, .. } = &made.panes[0].layers[1] else { panic!("no mean") };
    assert_eq!(name, "mean of 3");
    assert_eq!(values.iter().take_while(|v| v.is_none()).count(), 2);
    let close = |i: usize| rows.column(Field::Close)[i] as f64 / 1e5;
    for (i, value) in values.iter().enumerate().skip(2) {
        let plainly = (close(i) + close(i - 1) + close(i - 2)) / 3.0;
        assert!((value.unwrap() - plainly).abs() < 1e-9, "bar {i}");
    }
}

#[test]
fn columns_that_are_nowhere_known_have_no_pane() {
    let names = |rows: &Columns| drawn(rows).panes.iter().map(|p| p.name.clone()).collect::<Vec<_>>();
    let mut rows = bars(20, 5, 102_300);
    assert_eq!(names(&rows), ["price", "volume", "spread"]);
    rows.column_mut(Field::Spread).unwrap().fill(ABSENT);
    assert_eq!(names(&rows), ["price", "volume"]);
    rows.column_mut(Field::Volume).unwrap().fill(0);
    assert_eq!(names(&rows), ["price"], "a volume that is counted nowhere");
    let shares: f64 = drawn(&rows).panes.iter().map(|p| p.share).sum();
    assert!((shares - 1.0).abs() < 1e-9);
}

#[test]
fn a_row_without_prices_leaves_no_hole_and_draws_no_zero() {
    let mut rows = bars(20, 5, 102_300);
    for field in [Field::Open, Field::High, Field::Low, Field::Close] {
        rows.column_mut(field).unwrap()[7] = ABSENT;
    }
    let made = drawn(&rows);
    let Layer::Candles(candles) = &made.panes[0].layers[0] else { panic!("no candles") };
    assert_eq!(candles.len(), 20);
    assert!(candles[7].is_none() && candles[6].is_some(), "what is not known is not drawn");
    assert!(made.panes[0].low > 1.0, "no price of 0 widens the scale");
}

#[test]
fn a_second_series_is_drawn_at_the_times_of_the_first() {
    let (rows, mut other) = (bars(20, 5, 102_300), bars(20, 3, 1_023));
    other.time.iter_mut().for_each(|t| *t += 5 * HOUR);
    let clock = Clock::utc();
    let made =
        scene(&SceneRequest { with: Some(("tarn".into(), &other)), ..SceneRequest::of(&rows, &clock) });
    let Layer::Line { name, values, .. } = &made.panes[0].layers[1] else { panic!("no line") };
    assert_eq!((name.as_str(), values.len()), ("tarn", 20));
    assert!(values[..5].iter().all(Option::is_none), "it begins five bars later");
    assert_eq!(values[5], Some(other.column(Field::Close)[0] as f64 / 1e3), "in its own decimals");
}

#[test]
fn labels_of_time_are_told_in_the_clock_that_is_asked_for() {
    let rows = bars(24 * 5, 5, 102_300);
    let labels = |clock: &str| {
        let clock: Clock = clock.parse().unwrap();
        let request = SceneRequest::of(&rows, &clock);
        scene(&request).ticks
    };
    let (utc, later) = (labels("UTC"), labels("UTC+3"));
    assert!(!utc.is_empty() && utc.iter().zip(&utc[1..]).all(|(a, b)| a.slot < b.slot));
    assert_ne!(utc[0].slot, later[0].slot, "days begin at another bar");
    let midnight = |scene: &Scene, slot: usize| scene.times[slot] % DAY == 0;
    let scene = drawn(&rows);
    assert!(utc.iter().all(|t| midnight(&scene, t.slot)), "{utc:?}");
}
