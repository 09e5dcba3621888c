//! Pictures and the dossier: every view in every form, and the same bytes each time.

use std::process::Command;

use super::support::Program;

fn accepted(command: &str, args: &[&str]) -> bool {
    let out =
        Command::new(command).args(args).output().unwrap_or_else(|e| panic!("{command} is needed: {e}"));
    out.status.success()
}

#[test]
fn each_view_is_drawn_dark_and_for_paper_and_read_by_others() {
    let p = Program::new().with_noksek();
    p.told(&["align", "NOKSEK@tarn:1m", "--to", "NOKSEK@quill:1m", "--anchor", "--accept"]);
    for (view, words) in [
        ("price", "mean of 20"),
        ("coverage", "what is there of 2 series"),
        ("days", "days of open market"),
        ("week", "session week"),
        ("costs", "medians in points"),
    ] {
        let draw = |name: &str, more: &[&str]| -> String {
            let out = p.dir.path().join(name).to_string_lossy().into_owned();
            let args = ["chart", "NOKSEK@tarn:1m", "--view", view, "--out", &out];
            let of_price: &[&str] = if view == "price" { &["--ma", "20"] } else { &[] };
            let told = p.told(&[&args, of_price, more].concat());
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
        assert!(std::fs::read(pdf).unwrap().starts_with(b"%PDF"), "{view}");
    }
    for (args, why) in [
        (&["--size", "12"][..], "is no size"),
        (&["--view", "nothing"], "nothing"),
        (&["--beside"], "--with"),
        (&["--view", "days", "--ma", "20"], "has no place for --ma"),
        (&["--view", "costs", "--from", "2024-03-05"], "has no place for --from and --to"),
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
    let text = String::from_utf8_lossy(&pdf);
    assert!(text.contains("(is it fit to test on?) Tj"), "words stand in it as words");
    assert!(text.matches("/MediaBox").count() >= 2, "it has pages");
    let (code, _, err) = write("NOKSEK@joined:1m", "a.txt");
    assert!(code == 2 && err.contains(".html or .pdf"), "{err}");
}
