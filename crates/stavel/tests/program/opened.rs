//! Files that were delivered, opened by other programs.

use std::process::Command;

use serde_json::{Value, json};

use super::support::Program;

/// Bars with absent values and a long price, of an instrument whose description looks like a formula: a workbook read by
/// another library has the values of the CSV, pages hold to the rules of HTML, the parts of the workbook and the picture to
/// those of XML, the PDF to its own.
#[test]
fn what_is_delivered_is_sound_to_readers_and_checkers_of_others() {
    let p = Program::new();
    let mut rows = String::from("Time (UTC),Open,High,Low,Close,Volume,Spread\n");
    for i in 0..2000 {
        let volume = if i % 7 == 0 { String::new() } else { (i * 11 % 900).to_string() };
        let spread = if i % 5 == 0 { String::new() } else { (10 + i % 9).to_string() };
        let (day, hour, minute) = (4 + i / 1440, i / 60 % 24, i % 60);
        let price = 1.083_401_25 + f64::from(i % 90) / 1e5;
        rows += &format!(
            "2024-03-{day:02} {hour:02}:{minute:02},{price:.8},{:.8},{:.8},{price:.8},{volume},{spread}\n",
            price + 0.000_2,
            price - 0.000_2,
        );
    }
    let path = p.file("NOKSEK_1m.csv", rows);
    let args =
        ["intake", &path, "--source", "quill", "--instrument", "NOKSEK", "--side", "bid", "--stamp", "open"];
    p.json(&args);
    p.json(&["compose", "NOKSEK", "--set", "description==cmd()<&>", "--set", "commission=35"]);
    let files = p.dir.path().join("files");
    std::fs::create_dir(&files).unwrap();
    let to = |name: &str| files.join(name).to_string_lossy().into_owned();
    for name in ["rows.csv", "rows.xlsx", "rows.html"] {
        p.json(&["deliver", "NOKSEK@quill:1m", "--out", &to(name)]);
    }
    for name in ["chart.svg", "chart.pdf"] {
        p.json(&["chart", "NOKSEK@quill:1m", "--out", &to(name)]);
    }
    for name in ["check.html", "check.pdf"] {
        let (code, _, err) = p.told(&["check", "NOKSEK@quill:1m", "--report", &to(name)]);
        assert!(matches!(code, 0 | 3), "{err}");
    }
    let opened = |folder: &std::path::Path| {
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        Command::new("python3")
            .arg(root.join("scripts/opened.py"))
            .arg(folder)
            .env("PYTHONPATH", root.join("target/engines"))
            .output()
            .unwrap()
    };
    let out = opened(&files);
    let err = String::from_utf8_lossy(&out.stderr);
    assert!(out.status.success(), "make test puts the readers there (scripts/engines.sh): {err}");
    let told: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(told["rows.xlsx"], json!(2000), "{told}");
    for name in ["rows.html", "check.html", "chart.svg", "chart.pdf", "check.pdf"] {
        assert!(told[name].as_u64().is_some_and(|n| n > 0), "{name}: {told}");
    }
    // A price that differs is seen: the readers do compare.
    let text = std::fs::read_to_string(to("rows.csv")).unwrap();
    std::fs::write(to("rows.csv"), text.replacen("1.08340125", "1.08340126", 1)).unwrap();
    let out = opened(&files);
    assert!(!out.status.success() && String::from_utf8_lossy(&out.stderr).contains("1.08340126"));
}
