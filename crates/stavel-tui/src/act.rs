//! Every act of the bench in one table: it gives dispatch, key hints, palette, key list and docs.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A way of working on what the window shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Lens {
    Shelf,
    Chart,
    Check,
    Align,
    Splice,
    Frames,
    Compose,
    Deliver,
    Rehearse,
}

impl Lens {
    /// Every lens in the order of the bar.
    pub const ALL: [Lens; 9] = [
        Lens::Shelf,
        Lens::Chart,
        Lens::Check,
        Lens::Align,
        Lens::Splice,
        Lens::Frames,
        Lens::Compose,
        Lens::Deliver,
        Lens::Rehearse,
    ];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Lens::Shelf => "shelf",
            Lens::Chart => "chart",
            Lens::Check => "check",
            Lens::Align => "align",
            Lens::Splice => "splice",
            Lens::Frames => "frames",
            Lens::Compose => "compose",
            Lens::Deliver => "deliver",
            Lens::Rehearse => "rehearse",
        }
    }
}

/// Something a person can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Act {
    Open(Lens),
    NextLens,
    Up,
    Down,
    Left,
    Right,
    ZoomIn,
    ZoomOut,
    Whole,
    NextSeries,
    PreviousSeries,
    Enter,
    Intake,
    Sort,
    Filter,
    History,
    Compare,
    Rename,
    Remove,
    Tidy,
    Verify,
    Undo,
    Redo,
    UndoAct,
    RedoAct,
    SaveRecipe,
    CancelJob,
    Palette,
    Keys,
    Quit,
    CursorLeft,
    CursorRight,
    Average,
    Overlay,
    SaveChart,
    Mend,
    MendAll,
    SaveMends,
    LoadMends,
    WeekHeat,
    Against,
    LearnWeek,
    Report,
    Accept,
    Evidence,
    NudgeBack,
    NudgeOn,
    HourBack,
    HourOn,
    OwnClock,
    Rule,
    Level,
    CarrySpread,
    Precedence,
    Layers,
    Calmer,
    TypeRule,
    Build,
    BuildAll,
    NewInstrument,
    Rows,
    Format,
    ClockChoice,
    Origins,
    DeliverStale,
    Run,
    Faster,
    Slower,
    Buy,
    Sell,
    Flat,
    Jump,
    NextSession,
    NextDay,
    SaySpread,
}

/// A line of the table.
pub struct Line {
    pub act: Act,
    /// As shown and as pressed; none for what only the palette offers.
    pub keys: &'static [&'static str],
    /// The lens it belongs to; none for everywhere.
    pub lens: Option<Lens>,
    /// Two or three words for the hint line.
    pub short: &'static str,
    /// What it does.
    pub about: &'static str,
}

impl Line {
    /// The command that does the same, where there is one.
    pub fn command(&self) -> Option<&'static str> {
        Some(match (self.lens?, self.act) {
            (_, Act::Intake) => "stavel intake PATH --source S",
            (_, Act::History) => "stavel shelf SERIES --editions",
            (_, Act::Compare) => "stavel shelf SERIES --compare EDITION",
            (_, Act::Rename) => "stavel shelf SERIES --rename NAME",
            (_, Act::Remove) => "stavel shelf SERIES --remove",
            (_, Act::Tidy) => "stavel shelf --tidy",
            (_, Act::Verify) => "stavel shelf --verify",
            (_, Act::SaveChart) => "stavel chart SERIES --out FILE",
            (_, Act::Mend | Act::MendAll) | (Lens::Check, Act::Accept) => {
                "stavel check SERIES --mend KIND,..."
            }
            (_, Act::SaveMends) => "stavel check SERIES --mend KIND,... --save-mends FILE",
            (_, Act::LoadMends) => "stavel check SERIES --mends FILE",
            (_, Act::Against) => "stavel check SERIES --against SERIES",
            (_, Act::LearnWeek) => "stavel check SERIES --learn",
            (_, Act::Report) => "stavel check SERIES --report FILE",
            (_, Act::OwnClock) => "stavel align SERIES --to SERIES --clock CLOCK --anchor",
            (Lens::Align, Act::Accept) => "stavel align SERIES --to SERIES --anchor",
            (Lens::Splice, Act::Accept) => "stavel splice SERIES SERIES --into S",
            (_, Act::Layers) => "stavel splice TICKS MINUTES --into S --layered",
            (Lens::Splice, Act::TypeRule) => "stavel splice SERIES SERIES --into S --rule cut=TIME",
            (_, Act::Build | Act::BuildAll) => "stavel frames SERIES FRAME...",
            (Lens::Compose, Act::Enter) => "stavel compose NAME --set KEY=VALUE",
            (_, Act::NewInstrument) => "stavel compose NAME --like INSTRUMENT",
            (_, Act::Rows) => "stavel compose NAME --from SERIES",
            (Lens::Deliver, Act::Enter) => "stavel deliver SERIES --out PATH",
            (Lens::Rehearse, Act::Run) => "stavel rehearse SERIES",
            _ => return None,
        })
    }
}

const fn line(
    act: Act,
    keys: &'static [&'static str],
    lens: Option<Lens>,
    short: &'static str,
    about: &'static str,
) -> Line {
    Line { act, keys, lens, short, about }
}

/// The table.
pub const TABLE: &[Line] = &[
    line(Act::Intake, &["i"], Some(Lens::Shelf), "intake", "take files of a vendor or broker in"),
    line(Act::Enter, &["Enter"], Some(Lens::Shelf), "chart", "see the chosen series on the chart"),
    line(Act::Filter, &["/"], Some(Lens::Shelf), "filter", "show only series with some words in their names"),
    line(Act::Sort, &["s"], Some(Lens::Shelf), "sort", "order by name, size, last change or depth"),
    line(
        Act::History,
        &["h"],
        Some(Lens::Shelf),
        "history",
        "the editions of the series and what each was made from",
    ),
    line(Act::Compare, &["c"], Some(Lens::Shelf), "", "compare the chosen edition with the current one"),
    line(Act::Rename, &["r"], Some(Lens::Shelf), "rename", "give the series another name"),
    line(
        Act::Remove,
        &["x"],
        Some(Lens::Shelf),
        "remove",
        "take the series off the shelf; undo brings it back",
    ),
    line(Act::Verify, &["v"], Some(Lens::Shelf), "", "compare every file with what the catalog says of it"),
    line(Act::Tidy, &["T"], Some(Lens::Shelf), "", "do away with older editions and removed series"),
    line(Act::CursorLeft, &[","], Some(Lens::Chart), "", "move the cursor a bar back"),
    line(Act::CursorRight, &["."], Some(Lens::Chart), "cursor", "move the cursor a bar on"),
    line(Act::Average, &["m"], Some(Lens::Chart), "mean", "another moving average, or none"),
    line(Act::Overlay, &["o"], Some(Lens::Chart), "overlay", "lay another series of the instrument over it"),
    line(
        Act::SaveChart,
        &["w"],
        Some(Lens::Chart),
        "save svg",
        "write the chart of the window to an SVG or PDF file",
    ),
    line(Act::Enter, &["Enter"], Some(Lens::Check), "see place", "go to the chosen finding on the chart"),
    line(
        Act::Mend,
        &["m"],
        Some(Lens::Check),
        "mend kind",
        "choose the mend for this kind of finding, or take it away; what it would do is shown",
    ),
    line(
        Act::MendAll,
        &["M"],
        Some(Lens::Check),
        "mend safe",
        "choose every mend that is safe without looking",
    ),
    line(Act::Accept, &["a"], Some(Lens::Check), "do mends", "do the chosen mends: a new edition"),
    line(Act::WeekHeat, &["w"], Some(Lens::Check), "week", "movement and spread by hour of the week"),
    line(Act::NudgeBack, &[","], Some(Lens::Check), "", "the hour of the week before"),
    line(Act::NudgeOn, &["."], Some(Lens::Check), "hour", "the next hour of the week"),
    line(
        Act::Against,
        &["x"],
        Some(Lens::Check),
        "against",
        "hold it against another source, month by month",
    ),
    line(Act::LearnWeek, &["l"], Some(Lens::Check), "learn", "read the session week off the rows"),
    line(Act::Report, &["R"], Some(Lens::Check), "report", "write a page to keep with the data"),
    line(Act::SaveMends, &["W"], Some(Lens::Check), "", "save the chosen mends as a list"),
    line(Act::LoadMends, &["L"], Some(Lens::Check), "mend list", "take the mends of a saved list"),
    line(
        Act::Accept,
        &["a"],
        Some(Lens::Align),
        "accept, anchor",
        "store the series in UTC with the clock found",
    ),
    line(Act::Enter, &["Enter"], Some(Lens::Align), "see bar", "see the chosen long bar on the chart"),
    line(
        Act::Evidence,
        &["e"],
        Some(Lens::Align),
        "evidence",
        "the longest bars, or sessions and daily bars",
    ),
    line(
        Act::OwnClock,
        &["o"],
        Some(Lens::Align),
        "own clock",
        "take a clock of your own and see what the weeks say of it",
    ),
    line(Act::NudgeBack, &[","], Some(Lens::Align), "", "set the clock a bar back"),
    line(Act::NudgeOn, &["."], Some(Lens::Align), "", "set the clock a bar on"),
    line(Act::HourBack, &["<"], Some(Lens::Align), "", "set the clock an hour back"),
    line(Act::HourOn, &[">"], Some(Lens::Align), "nudge", "set the clock an hour on"),
    line(Act::Accept, &["a"], Some(Lens::Splice), "accept, join", "write the joined series"),
    line(Act::Rule, &["r"], Some(Lens::Splice), "rule", "the next rule of who owns which time"),
    line(
        Act::Level,
        &["l"],
        Some(Lens::Splice),
        "level",
        "bring later sources to the level of the first, or not",
    ),
    line(
        Act::CarrySpread,
        &["c"],
        Some(Lens::Splice),
        "spreads",
        "put the first one's spreads on rows without",
    ),
    line(Act::Precedence, &["p"], Some(Lens::Splice), "order", "the next source comes first"),
    line(
        Act::Layers,
        &["y"],
        Some(Lens::Splice),
        "layers",
        "ticks where there are ticks, minutes elsewhere, or bars only",
    ),
    line(Act::NudgeBack, &[","], Some(Lens::Splice), "", "move the cut an hour back"),
    line(Act::NudgeOn, &["."], Some(Lens::Splice), "", "move the cut an hour on"),
    line(Act::HourBack, &["<"], Some(Lens::Splice), "", "move the cut a column of the spine back"),
    line(Act::HourOn, &[">"], Some(Lens::Splice), "move cut", "move the cut a column of the spine on"),
    line(
        Act::TypeRule,
        &["t"],
        Some(Lens::Splice),
        "type",
        "type the time of the cut, or the hours of the first source",
    ),
    line(Act::Calmer, &["b"], Some(Lens::Splice), "calmer", "cut at the calmer place named for the seam"),
    line(Act::Enter, &["Enter"], Some(Lens::Splice), "see seam", "see both sources at the seam on the chart"),
    line(Act::Build, &["Enter"], Some(Lens::Frames), "build", "build the chosen frame"),
    line(
        Act::BuildAll,
        &["b"],
        Some(Lens::Frames),
        "build all",
        "build every frame that is missing or stale",
    ),
    line(
        Act::Enter,
        &["Enter"],
        Some(Lens::Compose),
        "change value",
        "change the chosen value of the spec sheet",
    ),
    line(
        Act::NewInstrument,
        &["n"],
        Some(Lens::Compose),
        "new like this",
        "make an instrument like this one",
    ),
    line(
        Act::Rows,
        &["b"],
        Some(Lens::Compose),
        "build rows",
        "build the rows of this instrument from the one it is like",
    ),
    line(Act::Format, &["f"], Some(Lens::Deliver), "format", "the next file format"),
    line(Act::ClockChoice, &["c"], Some(Lens::Deliver), "clock", "times in UTC or in the instrument's clock"),
    line(Act::Enter, &["Enter"], Some(Lens::Deliver), "deliver", "write the file and prove it"),
    line(
        Act::Origins,
        &["o"],
        Some(Lens::Deliver),
        "origins",
        "write of each row where it comes from, or not",
    ),
    line(
        Act::DeliverStale,
        &["a"],
        Some(Lens::Deliver),
        "as it is",
        "deliver the series although it is stale",
    ),
    line(Act::Run, &["Space"], Some(Lens::Rehearse), "run/hold", "let time run, or hold it"),
    line(Act::Slower, &["<"], Some(Lens::Rehearse), "", "a slower pace"),
    line(Act::Faster, &[">"], Some(Lens::Rehearse), "pace", "a faster pace, up to as fast as it goes"),
    line(Act::Buy, &["b"], Some(Lens::Rehearse), "buy", "buy one lot at the ask"),
    line(Act::Sell, &["s"], Some(Lens::Rehearse), "sell", "sell one lot at the bid"),
    line(Act::Flat, &["x"], Some(Lens::Rehearse), "flat", "close the position"),
    line(Act::Jump, &["j"], Some(Lens::Rehearse), "jump", "jump to a time"),
    line(Act::NextSession, &["n"], Some(Lens::Rehearse), "session", "jump to the next opening"),
    line(Act::NextDay, &["d"], Some(Lens::Rehearse), "day", "jump to the next session day that has data"),
    line(Act::SaySpread, &["p"], Some(Lens::Rehearse), "spread", "say the spread of rows that say none"),
    line(Act::Left, &["Left"], None, "", "pan the window back"),
    line(Act::Right, &["Right"], None, "pan", "pan the window on"),
    line(Act::ZoomIn, &["+"], None, "", "see less time, closer"),
    line(Act::ZoomOut, &["-"], None, "zoom", "see more time"),
    line(Act::Whole, &["0"], None, "whole", "see the whole history"),
    line(Act::Up, &["Up"], None, "", "choose the line above"),
    line(Act::Down, &["Down"], None, "choose", "choose the line below"),
    line(Act::PreviousSeries, &["["], None, "", "the series before"),
    line(Act::NextSeries, &["]"], None, "series", "the next series of the instrument"),
    line(Act::NextLens, &["Tab"], None, "", "the next lens"),
    line(Act::Undo, &["u"], None, "undo", "step the series back over its last change"),
    line(Act::Redo, &["U"], None, "redo", "step the series forth over what was undone last"),
    line(Act::UndoAct, &["z"], None, "", "step back over the last whole act, whatever it was of"),
    line(Act::RedoAct, &["Z"], None, "", "step forth over the act that was undone last"),
    line(Act::SaveRecipe, &["S"], None, "", "save what was done to this shelf as a recipe"),
    line(Act::CancelJob, &["Esc"], None, "", "stop the job that runs"),
    line(Act::Palette, &[":"], None, "palette", "find any act by its words"),
    line(Act::Keys, &["?"], None, "keys", "every key"),
    line(Act::Quit, &["q"], None, "quit", "leave the bench"),
    line(Act::Open(Lens::Shelf), &["1"], None, "", "the shelf: what there is"),
    line(Act::Open(Lens::Chart), &["2"], None, "", "the chart: look"),
    line(Act::Open(Lens::Check), &["3"], None, "", "check: find what is wrong, mend it"),
    line(Act::Open(Lens::Align), &["4"], None, "", "align: find the clock"),
    line(Act::Open(Lens::Splice), &["5"], None, "", "splice: merge sources into one history"),
    line(Act::Open(Lens::Frames), &["6"], None, "", "frames: bars of other lengths"),
    line(Act::Open(Lens::Compose), &["7"], None, "", "compose: instruments of one's own"),
    line(Act::Open(Lens::Deliver), &["8"], None, "", "deliver: files that are proved"),
    line(Act::Open(Lens::Rehearse), &["9"], None, "", "rehearse: replay, trade on paper"),
];

/// The act of a key in a lens: the lens' own first, then what holds everywhere.
pub fn act_of(key: KeyEvent, lens: Lens) -> Option<Act> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Act::Quit);
    }
    let name = key_name(key.code)?;
    let find =
        |scope: Option<Lens>| TABLE.iter().find(|l| l.lens == scope && l.keys.contains(&name.as_str()));
    find(Some(lens)).or_else(|| find(None)).map(|l| l.act)
}

fn key_name(code: KeyCode) -> Option<String> {
    Some(match code {
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char('=') => "+".into(),
        KeyCode::Char(c) => c.to_string(),
        KeyCode::Enter => "Enter".into(),
        KeyCode::Esc => "Esc".into(),
        KeyCode::Tab => "Tab".into(),
        KeyCode::Left => "Left".into(),
        KeyCode::Right => "Right".into(),
        KeyCode::Up => "Up".into(),
        KeyCode::Down => "Down".into(),
        _ => return None,
    })
}

/// The lines that hold in a lens: its own, then those of everywhere.
pub fn lines_for(lens: Lens) -> impl Iterator<Item = &'static Line> {
    let own = TABLE.iter().filter(move |l| l.lens == Some(lens));
    own.chain(TABLE.iter().filter(|l| l.lens.is_none()))
}

/// The key list as a Markdown table, for the docs.
pub fn key_list() -> String {
    let mut out = String::from("| where | key | what it does |\n|---|---|---|\n");
    for line in TABLE {
        let place = line.lens.map_or("everywhere", Lens::word);
        let keys: Vec<String> = line.keys.iter().map(|k| format!("`{k}`")).collect();
        out.push_str(&format!("| {place} | {} | {} |\n", keys.join(" "), line.about));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_place() {
        for (i, a) in TABLE.iter().enumerate() {
            for b in &TABLE[i + 1..] {
                if a.lens == b.lens {
                    assert!(!a.keys.iter().any(|k| b.keys.contains(k)), "{} and {}", a.about, b.about);
                }
            }
        }
    }

    #[test]
    fn the_docs_list_the_keys_as_they_are() {
        let docs = include_str!("../../../docs/keys.md");
        assert!(docs.contains(&key_list()), "docs/keys.md is not what the table says:\n{}", key_list());
    }
}
