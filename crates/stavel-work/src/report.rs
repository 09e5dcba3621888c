//! What a step did, as a document for programs and in lines for people.

use std::path::PathBuf;
use std::sync::Arc;

use serde_json::{Value, json};
use stavel_core::model::time::rfc3339;
use stavel_core::model::{Decision, SeriesName, Standing};
use stavel_core::store::SeriesInfo;

use crate::question::Question;

/// A list of a document whose entries are made when they are asked for.
#[derive(Clone)]
pub struct LongList {
    pub name: &'static str,
    pub len: usize,
    pub entry: Arc<dyn Fn(usize) -> Value + Send + Sync>,
}

impl std::fmt::Debug for LongList {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} entries of {}", self.len, self.name)
    }
}

/// What a step did.
#[derive(Debug, Clone)]
pub struct StepReport {
    /// The document that `--json` prints, but for its long lists.
    pub json: Value,
    /// Lists of the document that may have a hundred thousand entries; made only where it is printed.
    pub lists: Vec<LongList>,
    /// The same in lines for people; the first says it all.
    pub lines: Vec<String>,
    /// Every step in lines, for a report whose lines are only a summary; empty for others.
    pub details: Vec<String>,
    /// True where it is done but somebody should look.
    pub wants_person: bool,
    /// The series it made or changed.
    pub changed: Vec<SeriesName>,
    /// The files it wrote.
    pub files: Vec<PathBuf>,
    /// What the result rests on that nobody said and nothing shows.
    pub assumed: Vec<Decision>,
    /// The question at which it stopped.
    pub question: Option<Box<Question>>,
}

impl StepReport {
    /// What was done, as a document and in lines.
    pub fn new(json: Value, lines: Vec<String>) -> StepReport {
        StepReport {
            json,
            lists: Vec::new(),
            lines,
            details: Vec::new(),
            wants_person: false,
            changed: Vec::new(),
            files: Vec::new(),
            assumed: Vec::new(),
            question: None,
        }
    }

    /// The whole document.
    pub fn document(&self) -> Value {
        let mut json = self.json.clone();
        for list in &self.lists {
            json[list.name] = (0..list.len).map(|i| (list.entry)(i)).collect();
        }
        json
    }

    /// Puts what was assumed into the document and into one line.
    pub(crate) fn tell_assumed(&mut self) {
        if self.assumed.is_empty() {
            return;
        }
        if let Some(json) = self.json.as_object_mut() {
            let list = |d: &Decision| json!({"what": d.what, "value": d.value, "why": d.why});
            json.insert("assumed".into(), self.assumed.iter().map(list).collect());
        }
        let words: Vec<String> = self.assumed.iter().map(|d| format!("{} {}", d.what, d.value)).collect();
        let mark = Standing::Assumed.mark();
        // One reason fits on the line; of several the document tells each.
        let why = match self.assumed.as_slice() {
            [one] if matches!(one.what.as_str(), "side" | "stamp") => {
                format!("{}; say --{}", one.why, one.what)
            }
            [one] => one.why.clone(),
            _ => "nobody says so and nothing shows it; docs/standing.md tells how to say it".to_owned(),
        };
        self.lines.push(format!("  {mark} assumed: {} ({why})", words.join(", ")));
    }
}

/// A number of things, with a plural that takes an s.
pub fn counted(n: u64, thing: &str) -> String {
    format!("{n} {thing}{}", if n == 1 { "" } else { "s" })
}

/// A series that a step made, as the documents of steps have it.
pub fn series_made(info: &SeriesInfo) -> Value {
    let edition = &info.edition;
    json!({
        "series": info.name, "edition": edition.number, "rows": edition.rows,
        "first": rfc3339(edition.first), "last": rfc3339(edition.last),
    })
}

/// A size as people say it.
pub fn bytes_in_words(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1000),
        10_000_000..10_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn assumed(what: &str, value: &str, why: &str) -> Decision {
        Decision { what: what.into(), value: value.into(), standing: Standing::Assumed, why: why.into() }
    }

    #[test]
    fn what_is_assumed_is_one_line_and_each_reason_is_in_the_document() {
        let mut report = StepReport::new(json!({"rows": 3}), vec!["3 rows".into()]);
        report.tell_assumed();
        assert_eq!((report.lines.len(), report.document().get("assumed")), (1, None));
        report.assumed = vec![assumed("side", "bid", "the file does not say")];
        let mut two = report.clone();
        report.tell_assumed();
        assert_eq!(report.lines[1], "  ○ assumed: side bid (the file does not say; say --side)");
        two.assumed.push(assumed("hours", "24x5", "usual for forex"));
        two.tell_assumed();
        assert!(
            two.lines[1].starts_with("  ○ assumed: side bid, hours 24x5 (nobody says so"),
            "{:?}",
            two.lines
        );
        let whys: Vec<Value> =
            two.document()["assumed"].as_array().unwrap().iter().map(|d| d["why"].clone()).collect();
        assert_eq!(whys, ["the file does not say", "usual for forex"]);
    }

    #[test]
    fn sizes_and_counts_are_told_as_people_say_them() {
        let told =
            [0, 9_999, 10_000, 9_999_999, 10_000_000, 2_345_678_901, 10_000_000_000].map(bytes_in_words);
        let expected = ["0 bytes", "9999 bytes", "10 kB", "9999 kB", "10.0 MB", "2345.7 MB", "10.0 GB"];
        assert_eq!(told, expected);
        assert_eq!([0, 1, 2].map(|n| counted(n, "row")), ["0 rows", "1 row", "2 rows"]);
    }

    #[test]
    fn a_long_list_is_part_of_the_document_and_not_of_what_is_held() {
        let mut report = StepReport::new(json!({"rows": 3}), Vec::new());
        let entry = Arc::new(|i: usize| json!(i * i));
        report.lists.push(LongList { name: "squares", len: 4, entry });
        assert!(report.json.get("squares").is_none());
        assert_eq!(report.document(), json!({"rows": 3, "squares": [0, 1, 4, 9]}));
    }
}
