//! Pictures and the dossier: every view in every form, and the same bytes each time.

use std::process::Command;

use super::support::Program;

fn accepted(command: &str, args: &[&str]) -> bool {
    let out =
        Command::new(command).args(args).output().unwrap_or_else(|e| panic!("{command} is needed: {e}"));
    out.status.success()
}

/// The words of a PDF as a person selects them; the file is sound to a checker.
fn words_of_pdf(path: &str) -> String {
    assert!(accepted("qpdf", &["--check", path]), "{path}");
    let out = Command::new("pdftotext").args(["-layout", path, "-"]).output().unwrap();
    String::from_utf8_lossy(&out.stdout).into_owned()
}

#[test]
fn each_view_is_drawn_dark_and_for_paper_and_read_by_others() {
    let p = Program::new().with_noksek();
    p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    let orders =
        p.file("orders.csv", "time,side,lots\n2024-03-12T10:00:00Z,buy,1\n2024-03-12T15:00:00Z,sell,1\n");
    for (view, words) in [
        ("price", "mean of 20"),
        ("coverage", "what is there of 2 series"),
        ("days", "days of open market"),
        ("week", "session week"),
        ("costs", "medians in points"),
        ("trades", "bought"),
        ("align", "weeks agree"),
        ("agreement", "in common"),
    ] {
        let draw = |name: &str, more: &[&str]| -> String {
            let out = p.dir.path().join(name).to_string_lossy().into_owned();
            let args = ["chart", "NOKSEK@tarn:1m", "--view", view, "--out", &out];
            let of_view: &[&str] = match view {
                "price" => &["--ma", "20"],
                "trades" => &["--orders", &orders, "--from", "2024-03-12", "--to", "2024-03-13"],
                "align" | "agreement" => &["--with", "NOKSEK@quill:1m"],
                _ => &[],
            };
            let told = p.told(&[&args, of_view, more].concat());
            assert_eq!(told.0, 0, "{view}: {}", told.2);
            out
        };
        let svg = draw(&format!("{view}.svg"), &[]);
        let text = std::fs::read_to_string(&svg).unwrap();
        assert!(text.contains(words) && text.contains("width=\"1200\""), "{view}");
        assert!(accepted("xmllint", &["--noout", &svg]), "{view}");
        let again = draw(&format!("{view}2.svg"), &[]);
        assert_eq!(std::fs::read(again).unwrap(), text.as_bytes(), "{view}: the same bytes");
        let paper = draw(&format!("{view}.paper.svg"), &["--ground", "paper", "--size", "900x500"]);
        let paper = std::fs::read_to_string(paper).unwrap();
        assert!(paper.contains("width=\"900\"") && paper.to_lowercase().contains("#ffffff"), "{view}");
        let pdf = draw(&format!("{view}.pdf"), &[]);
        assert!(words_of_pdf(&pdf).contains(words), "{view}: words can be selected");
    }
    let late = p.file("late.csv", "time,side,lots\n2029-01-01T00:00:00Z,buy,1\n");
    let args = ["chart", "NOKSEK@tarn:1m", "--view", "trades", "--orders", &late, "--out", "late.svg"];
    let (code, out, _) = p.told(&args);
    assert!(code == 3 && out.contains("1 order not filled"), "{out}");
    for (args, why) in [
        (&["--size", "12"][..], "is no size"),
        (&["--view", "nothing"], "nothing"),
        (&["--beside"], "--with"),
        (&["--view", "days", "--ma", "20"], "has no place for --ma"),
        (&["--view", "costs", "--from", "2024-03-05"], "has no place for --from and --to"),
        (&["--view", "trades"], "needs orders"),
        (&["--view", "align"], "name the other"),
        (&["--orders", "x.csv"], "has no place for --orders"),
    ] {
        let (code, _, err) = p.told(&[&["chart", "NOKSEK@tarn:1m", "--out", "x.svg"], args].concat());
        assert!(code == 2 && err.contains(why), "{args:?}: {err}");
    }
}

#[test]
fn a_second_series_and_strokes_and_ratios_are_drawn() {
    let p = Program::new().with_noksek();
    p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    let draw = |name: &str, more: &[&str]| -> String {
        let out = p.dir.path().join(name).to_string_lossy().into_owned();
        let told = p.told(&[&["chart", "NOKSEK@quill:1m", "--out", &out], more].concat());
        assert_eq!(told.0, 0, "{}", told.2);
        std::fs::read_to_string(out).unwrap()
    };
    let plain = draw("a.svg", &["--plain"]);
    let marked = draw("b.svg", &[]);
    assert!(marked.len() > plain.len(), "what was found is marked");
    let with =
        draw("c.svg", &["--with", "NOKSEK@tarn:1m", "--beside", "--ranges", "--style", "bars", "--ratio"]);
    for words in ["NOKSEK@tarn:1m", "second", "true range"] {
        assert!(with.contains(words), "{words}");
    }
}

#[test]
fn a_dossier_says_what_speaks_against_a_history_and_is_the_same_each_time() {
    let p = Program::new().with_noksek();
    let path = |name: &str| p.dir.path().join(name).to_string_lossy().into_owned();
    let write = |series: &str, name: &str| p.told(&["dossier", series, "--out", &path(name), "--json"]);
    let (code, out, err) = write("NOKSEK@tarn:1m", "afloat.html");
    assert_eq!(code, 3, "{err}");
    let told: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(told["fit"], false);
    assert!(told["against"][0].as_str().unwrap().contains("its clock is not known"), "{told}");
    p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    p.json(&["splice", "NOKSEK@tarn:1m", "NOKSEK@quill:1m", "--into", "joined"]);
    let (_, _, err) = write("NOKSEK@joined:1m", "a.html");
    let html = std::fs::read_to_string(path("a.html")).unwrap_or_else(|e| panic!("{e}: {err}"));
    for words in [
        "is it fit to test on?",
        "what was found and mended",
        "clock America/New_York+7h",
        "joined by",
        "what a trade costs",
    ] {
        assert!(html.contains(words), "{words}");
    }
    write("NOKSEK@joined:1m", "b.html");
    assert_eq!(std::fs::read_to_string(path("b.html")).unwrap(), html);
    write("NOKSEK@joined:1m", "a.pdf");
    write("NOKSEK@joined:1m", "b.pdf");
    let pdf = std::fs::read(path("a.pdf")).unwrap();
    assert!(pdf.starts_with(b"%PDF") && pdf == std::fs::read(path("b.pdf")).unwrap());
    assert!(words_of_pdf(&path("a.pdf")).contains("is it fit to test on?"));
    assert!(String::from_utf8_lossy(&pdf).matches("/MediaBox").count() >= 2, "it has pages");
    let (code, _, err) = write("NOKSEK@joined:1m", "a.txt");
    assert!(code == 2 && err.contains(".html or .pdf"), "{err}");
}

#[test]
fn what_is_drawn_is_seen_on_every_series_listed_changed_and_taken_away() {
    let p = Program::new().with_noksek();
    let draw = |args: &[&str]| p.told(&[&["draw", "NOKSEK@quill:1m"], args].concat());
    for args in [
        &["level", "--at", "2024-03-12 10:00, 1.022", "--text", "the <high>"][..],
        &["ray", "--at", "2024-03-11 08:00, 1.021", "--to", "2024-03-12 16:00,1.025", "--colour", "green"],
        &["range", "--at", "2024-03-11 08:00, 1.021", "--to", "2024-03-12 16:00, 1.0222"],
    ] {
        let (code, out, err) = draw(args);
        assert!(code == 0 && out.contains("NOKSEK: "), "{args:?}: {err}");
    }
    let listed = |series: &str| p.json(&["draw", series])["drawings"].as_array().unwrap().clone();
    let there = listed("NOKSEK@quill:1m");
    assert_eq!(
        there.iter().map(|d| d["kind"].as_str().unwrap()).collect::<Vec<_>>(),
        ["level", "ray", "range"]
    );
    assert_eq!(there[1]["points"][1], serde_json::json!({"time": "2024-03-12T16:00:00Z", "price": 1.025}));
    // The broker's clock is not known yet: nobody can say where that is among its rows.
    assert!(listed("NOKSEK@tarn:1m").is_empty());
    p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    assert_eq!(listed("NOKSEK@tarn:1m").len(), 3);

    let chart = |name: &str, more: &[&str]| {
        let out = p.dir.path().join(name).to_string_lossy().into_owned();
        let args = ["chart", "NOKSEK@quill:1m", "--from", "2024-03-11", "--to", "2024-03-14", "--out", &out];
        assert_eq!(p.told(&[&args, more].concat()).0, 0);
        out
    };
    let svg = std::fs::read_to_string(chart("a.svg", &[])).unwrap();
    assert!(svg.contains("the &lt;high&gt;") && svg.contains("+0.00120 (+0.12 %)"), "{svg}");
    assert!(!std::fs::read_to_string(chart("b.svg", &["--plain"])).unwrap().contains("high"));
    assert!(words_of_pdf(&chart("a.pdf", &[])).contains("the <high>"));

    assert_eq!(draw(&["--change", "2", "--to", "2024-03-13 16:00, 1.03"]).0, 0);
    assert_eq!(listed("NOKSEK@tarn:1m")[1]["points"][1]["price"], 1.03);
    assert_eq!(draw(&["--remove", "1"]).0, 0);
    assert_eq!(listed("NOKSEK@quill:1m").len(), 2);
    p.told(&["undo"]);
    assert_eq!(listed("NOKSEK@quill:1m").len(), 3);
    for (args, why) in [
        (&["line", "--at", "2024-03-11, 1"][..], "--to"),
        (&["level", "--at", "yesterday, 1"], "yesterday"),
        (&["level", "--at", "2024-03-11 10:00"], "write a time and a price"),
        (&["level", "--at", "2024-03-11, NaN"], "write a time and a price"),
        (&["text", "--at", "2024-03-11, 1"], "--text"),
        (&["box", "--at", "2024-03-11, 1", "--to", "2024-03-11, 1"], "are the same"),
        (&["--at", "2024-03-11, 1"], "Say what to draw"),
        (&["--remove", "9"], "has no drawing 9; it has 1, 2, 3"),
    ] {
        let (code, _, err) = draw(args);
        assert!(code != 0 && err.contains(why), "{args:?}: {err}");
    }
}
