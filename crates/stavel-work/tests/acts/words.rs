//! One thing is told in the same words wherever it is told: lines, document, page.

use serde_json::Value;
use stavel_core::job::Job;
use stavel_core::model::Span;
use stavel_work::finding_in_words;

use crate::{Desk, quiet};

/// Minutes with a row that is far off, one whose high is below its close, one that comes twice and three hours
/// that are missing.
fn faulty() -> String {
    let mut lines: Vec<String> = quiet(4..7, 0).lines().map(str::to_owned).collect();
    let cells = |line: &str| -> Vec<String> { line.split(',').map(str::to_owned).collect() };
    let mut spike = cells(&lines[700]);
    spike[1..5].iter_mut().for_each(|price| *price = "1.40000".into());
    lines[700] = spike.join(",");
    let mut bad = cells(&lines[900]);
    bad[2] = "0.90000".into();
    lines[900] = bad.join(",");
    let twice = lines[1000].clone();
    lines.insert(1000, twice);
    lines.drain(2000..2180);
    lines.join("\n") + "\n"
}

fn details(document: &Value) -> Vec<(String, String)> {
    let text = |v: &Value| v.as_str().unwrap().to_owned();
    let findings = document["findings"].as_array().unwrap();
    findings.iter().map(|f| (text(&f["kind"]), text(&f["detail"]))).collect()
}

#[test]
fn a_finding_is_told_alike_in_lines_document_and_page() {
    let mut desk = Desk::new();
    desk.minutes("quill", &faulty());
    let report = desk.act("act = 'check'\nseries = 'NOKSEK@quill:1m'\nreport = '~/page.html'").unwrap();
    let told = details(&report.document());
    for (kind, words) in [
        ("spike", "0.41"),
        ("bad_ohlc", "1 row"),
        ("duplicate_time", "1 row"),
        ("missing", "3 h of open market"),
    ] {
        assert!(told.iter().any(|(k, d)| k == kind && d.starts_with(words)), "{kind} {words}: {told:?}");
    }
    let name = "NOKSEK@quill:1m".parse().unwrap();
    let (_, found) =
        stavel_core::check::check_series(&desk.shelf, &name, Span::ALL, &Job::unwatched()).unwrap();
    let words: Vec<String> = found.findings.iter().map(finding_in_words).collect();
    assert_eq!(words, told.iter().map(|(_, d)| d.clone()).collect::<Vec<_>>());
    let page = std::fs::read_to_string(desk.path("page.html")).unwrap();
    for (kind, detail) in &told {
        assert!(page.contains(&format!("<td>{kind}</td>")) && page.contains(&format!("<td>{detail}</td>")));
    }
    let lost = report.document()["points_lost"].as_array().unwrap().clone();
    let line = report.lines.iter().find(|l| l.contains("points lost")).unwrap();
    for loss in &lost {
        let words = format!("-{:.1} {}", loss["points"].as_f64().unwrap(), loss["why"].as_str().unwrap());
        assert!(line.contains(&words), "{line} lacks {words}");
    }
    assert!(!lost.is_empty());
}

#[test]
fn each_order_that_was_not_filled_at_once_is_told_with_its_time_and_wait() {
    let mut desk = Desk::new();
    let rows: String =
        quiet(4..7, 0).lines().filter(|l| !l.contains("2024-03-05 1")).map(|l| format!("{l}\n")).collect();
    desk.minutes("quill", &rows);
    desk.done("act = 'compose'\nname = 'NOKSEK'\nset = { spread = '18' }");
    let orders = "time,side,lots\n\
        2024-03-03T23:00:00Z,buy,1\n\
        2024-03-04T10:00:00Z,buy,1\n\
        2024-03-05T12:00:00Z,sell,1\n\
        2024-03-05T19:30:00Z,sell,1\n\
        2024-03-09T10:00:00Z,buy,1\n";
    std::fs::write(desk.path("o.csv"), orders).unwrap();
    let report = desk.act("act = 'rehearse'\nseries = 'NOKSEK@quill:1m'\norders = '~/o.csv'").unwrap();
    let document = report.document();
    let expected = [
        "the order of 2024-03-03 23:00 is refused: the rows begin 1 h later",
        "the order of 2024-03-05 12:00 expired: no quote came for 8 h",
        "the order of 2024-03-05 19:30 waited 30 min for a quote",
        "the order of 2024-03-09 10:00 is not filled: the rows end before it",
    ];
    let remarks: Vec<&str> =
        document["remarks"].as_array().unwrap().iter().map(|r| r.as_str().unwrap()).collect();
    assert_eq!(remarks, expected);
    assert_eq!(document["unfilled"], 3);
    for remark in expected {
        assert!(report.lines.contains(&format!("  ▲ {remark}")), "{:?}", report.lines);
    }
    assert!(report.wants_person);
    // Two fills and the night between them, in order of time, the money as in the fills.
    let journal: Vec<&str> =
        document["journal"].as_array().unwrap().iter().map(|r| r.as_str().unwrap()).collect();
    assert!(journal[0].starts_with("2024-03-04 10:00 bought 1.00 at 0.9"), "{journal:?}");
    assert!(journal.last().unwrap().starts_with("2024-03-05 20:00 sold 1.00 at 0.9"), "{journal:?}");
    let profit = document["fills"][1]["profit"].as_str().unwrap();
    assert!(journal.last().unwrap().contains(&format!("profit {profit} SEK")), "{journal:?}");
}

#[test]
fn a_long_bar_that_the_reference_lacks_is_absent_and_not_a_range_of_0() {
    let mut desk = Desk::new();
    // The longest bar of the broker lies where the vendor has a hole.
    let mut broker: Vec<String> = quiet(4..30, 0).lines().map(str::to_owned).collect();
    let at = broker.iter().position(|l| l.starts_with("2024-03-13 12:00")).unwrap();
    broker[at] = "2024-03-13 12:00,0.98000,0.99000,0.97000,0.98000,5".into();
    let vendor: Vec<&String> = broker.iter().filter(|l| !l.starts_with("2024-03-13 12:")).collect();
    let text = |lines: Vec<&String>| lines.iter().map(|l| format!("{l}\n")).collect::<String>();
    desk.minutes("quill", &text(vendor));
    std::fs::write(
        desk.path("NOKSEK.csv"),
        format!("Time,Open,High,Low,Close,Volume\n{}", text(broker.iter().collect())),
    )
    .unwrap();
    desk.done("act = 'intake'\npaths = ['~/NOKSEK.csv']\nsource = 'tarn'\nclock = 'afloat'\nframe = '1m'");
    let found = desk.done("act = 'align'\nseries = 'NOKSEK@tarn:1m'\nto = 'NOKSEK@quill:1m'");
    let longest = &found["evidence"][0];
    assert_eq!(longest["range_here"], 0.02, "{longest}");
    assert!(longest["range_there"].is_null(), "{longest}");
    let others = found["evidence"].as_array().unwrap();
    assert!(others[1..].iter().all(|e| e["range_there"] == e["range_here"]), "{others:?}");
}
