//! What a step did, as a document for programs and in lines for people.

use std::path::PathBuf;
use std::sync::Arc;

use serde_json::{Value, json};
use stavel_core::model::{Decision, SeriesName, Standing};

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
    /// True where it is done but somebody should look.
    pub wants_person: bool,
    /// The series it made or changed.
    pub changed: Vec<SeriesName>,
    /// The files it wrote.
    pub files: Vec<PathBuf>,
    /// What the result rests on that nobody said and nothing shows.
    pub assumed: Vec<Decision>,
}

impl StepReport {
    /// What was done, as a document and in lines.
    pub fn new(json: Value, lines: Vec<String>) -> StepReport {
        StepReport {
            json,
            lists: Vec::new(),
            lines,
            wants_person: false,
            changed: Vec::new(),
            files: Vec::new(),
            assumed: Vec::new(),
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

/// A size as people say it.
pub fn bytes_in_words(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1000),
        10_000_000..10_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}
