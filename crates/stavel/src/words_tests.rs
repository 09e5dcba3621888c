//! What may be typed, against what steps say of themselves.

use std::collections::BTreeMap;

use clap::{CommandFactory, Parser};
use proptest::prelude::*;
use stavel_core::deliver::FileFormat;
use stavel_core::rehearse::{DepthSizes, Queue};
use stavel_work::{
    AlignStep, AutoStep, ChartStep, CheckStep, ComposeStep, DeliverStep, FetchStep, FramesStep, FramesWanted,
    IntakeStep, Prefer, Recipe, RehearsalTable, RehearseStep, SheetValues, ShelfStep, SpliceStep, Step,
    UndoStep, UpdateStep,
};

use crate::args::Args;
use crate::commands::step_of;

/// Words that people and shells make of files: blanks, quotes, dollars, dashes in front.
fn word() -> impl Strategy<Value = String> {
    prop_oneof![
        "[a-z]{1,8}\\.csv",
        "[a-zA-Z0-9 ._/-]{1,12}",
        "[a-z$`'\"\\\\*?;&|<>()# ]{1,10}",
        "-{1,2}[a-z]{1,5}",
        "[äöü€→]{1,5}",
    ]
}

/// A word that is the value of an option: it cannot begin with a dash.
fn value() -> impl Strategy<Value = String> {
    word().prop_map(|w| w.trim_start_matches('-').to_owned()).prop_filter("empty", |w| !w.is_empty())
}

fn parsed<T: std::str::FromStr + std::fmt::Debug + Clone>(
    texts: &'static [&'static str],
) -> impl Strategy<Value = T>
where
    T::Err: std::fmt::Debug,
{
    proptest::sample::select(texts).prop_map(|text| text.parse().unwrap())
}

fn series() -> impl Strategy<Value = stavel_core::model::SeriesName> {
    parsed(&[
        "NOKSEK@quill:ticks",
        "NOKSEK@tarn:1m",
        "NOKSEK@tarn:1m.ask",
        "BLY-2024-03@quill:4h",
        "NOKSEK@j:1d.built",
    ])
}

fn pattern() -> impl Strategy<Value = stavel_core::model::SeriesPattern> {
    parsed(&["NOKSEK@quill:ticks", "BLY-2024-03@quill:4h", "NOK*@joined:*", "NZDSEK@tarn"])
}

fn formats() -> impl Strategy<Value = Vec<FileFormat>> {
    proptest::collection::vec(
        parsed(&["csv", "json", "json-columns", "ndjson", "html", "xlsx", "parquet", "dataset"]),
        1..3,
    )
}

fn clock() -> impl Strategy<Value = stavel_core::model::Clock> {
    parsed(&[
        "UTC",
        "UTC+3",
        "Europe/Oslo",
        "America/New_York+7h",
        "UTC+2, from 2023-06-04 America/New_York+7h",
    ])
}

fn moment() -> impl Strategy<Value = Option<String>> {
    proptest::option::of(
        proptest::sample::select(&["2024-03-01", "2024-03-01 10:00", "2024-03-01T10:00:00Z"][..])
            .prop_map(str::to_owned),
    )
}

fn intake() -> impl Strategy<Value = Step> {
    let plain = (
        (proptest::collection::vec(word(), 1..4), value(), proptest::option::of(value())),
        proptest::option::of(proptest::sample::select(&["afloat", "UTC+3", "America/New_York+7h"][..])),
        (
            proptest::option::of(parsed(&["1m", "ticks", "4h"])),
            proptest::option::of(0u8..9),
            proptest::option::of(value()),
        ),
        (
            proptest::option::of(parsed(&["open", "close"])),
            proptest::option::of(parsed(&["day-first", "year-first"])),
        ),
        (any::<bool>(), any::<bool>(), proptest::option::of(proptest::sample::select(&["bid", "mid"][..]))),
    );
    plain.prop_map(
        |(
            (paths, source, instrument),
            clock,
            (frame, decimals, layout),
            (stamp, dates),
            (replace, new, side),
        )| {
            Step::Intake(IntakeStep {
                paths: paths.into_iter().map(Into::into).collect(),
                source,
                instrument,
                clock: clock.map(str::to_owned),
                frame,
                decimals,
                layout,
                stamp,
                dates,
                replace,
                prefer: if new { Prefer::New } else { Prefer::Old },
                side: side.map(str::to_owned),
                ..IntakeStep::default()
            })
        },
    )
}

fn on_series() -> impl Strategy<Value = Step> {
    let path = || proptest::option::of(value().prop_map(Into::into));
    let mends = || {
        parsed(&[
            "spike",
            "safe",
            "filler",
            "conflicting_time=median",
            "move=2024-03-04T00:00:00Z/2024-03-05T00:00:00Z=-1h30m",
            "rescale=2024-03-04T00:00:00Z/2024-03-05T00:00:00Z=0.1",
        ])
    };
    let check = (
        (series(), moment(), moment()),
        proptest::collection::vec(mends(), 0..3),
        (path(), path(), path()),
        any::<bool>(),
    )
        .prop_map(|((series, from, to), mend, (mends, save_mends, report), learn)| {
            Step::Check(CheckStep {
                from,
                to,
                mend,
                mends,
                save_mends,
                report,
                learn,
                ..CheckStep::of(series)
            })
        });
    let align = (series(), series(), proptest::option::of(clock()), any::<(bool, bool, bool)>()).prop_map(
        |(series, to, clock, (scan, anchor, accept))| {
            Step::Align(AlignStep { clock, scan, anchor, accept, ..AlignStep::of(series, Some(to)) })
        },
    );
    let rule = parsed(&[
        "span",
        "holes",
        "grade",
        "cut=2023-06-01T00:00:00Z",
        "hours=mon-fri 08:00-17:00 Europe/Oslo",
    ]);
    let splice = (
        proptest::collection::vec(series(), 1..4),
        value(),
        rule,
        parsed(&["none", "shift", "ratio"]),
        any::<(bool, bool, bool)>(),
    )
        .prop_map(|(series, into, rule, level, (carry_spread, layered, anew))| {
            Step::Splice(SpliceStep {
                rule,
                level,
                carry_spread,
                layered,
                anew,
                ..SpliceStep::of(series, &into)
            })
        });
    let frames = (
        series(),
        proptest::collection::vec(parsed::<FramesWanted>(&["all", "5m", "9h", "1d", "1mo"]), 1..4),
        proptest::option::of(clock()),
        proptest::option::of(parsed(&["bid", "ask", "mid"])),
        proptest::option::of(parsed(&["skip", "fill"])),
        any::<bool>(),
    )
        .prop_map(|(series, frames, clock, side, empty, again)| {
            let said = FramesStep { clock, side, empty, ..FramesStep::of(series.clone(), frames.clone()) };
            let again = FramesStep { again, ..FramesStep::of(series, frames) };
            Step::Frames(if again.again { again } else { said })
        });
    prop_oneof![check, align, splice, frames]
}

fn deliveries() -> impl Strategy<Value = Step> {
    (
        (proptest::collection::vec(pattern(), 1..3), value(), formats()),
        (
            proptest::collection::vec(value(), 0..3),
            proptest::option::of(clock()),
            moment(),
            moment(),
            proptest::option::of(parsed(&["7", "1m=100,1d=5"])),
        ),
        any::<(bool, bool, bool, bool, bool, bool)>(),
        (
            proptest::collection::vec(parsed(&["time=Date", "close", "volume"]), 0..3),
            proptest::option::of(parsed(&["day-first,apart", "%d %b %Y, %H:%M"])),
            proptest::option::of(0u8..12),
            proptest::option::of(parsed(&["-", "NA"])),
            proptest::option::of(parsed(&[",", "."])),
        ),
        (
            proptest::option::of(parsed(&["needed", "texts", "all"])),
            proptest::option::of(parsed(&["lf", "crlf"])),
            proptest::option::of(parsed(&["utf-8", "utf-8-bom", "utf-16", "windows-1252"])),
            proptest::option::of(parsed(&["open", "close"])),
            proptest::option::of(parsed(&["none", "gz", "zst", "zip"])),
            proptest::option::of(parsed(&["year", "month", "day"])),
        ),
    )
        .prop_map(|((series, out, format), (layout, clock, from, to, last), flags, columns, lines)| {
            let (origin, details, complete_only, stale_ok, changed, costs) = flags;
            let (columns, dates, decimals, absent, decimal_mark) = columns;
            let (quotes, line_end, encoding, stamp, compress, split) = lines;
            Step::Deliver(Box::new(DeliverStep {
                series,
                out: out.into(),
                format,
                layout,
                clock,
                from,
                to,
                last,
                origin,
                details,
                complete_only,
                stale_ok,
                changed,
                costs,
                columns,
                dates,
                decimals,
                absent,
                decimal_mark,
                quotes,
                line_end,
                encoding,
                stamp,
                compress,
                split,
                ..DeliverStep::default()
            }))
        })
}

fn on_instruments_files_and_the_journal() -> impl Strategy<Value = Step> {
    let path = || proptest::option::of(value().prop_map(Into::into));
    let set = proptest::collection::btree_map("[a-z_]{1,9}", word(), 0..3);
    let compose = (
        value(),
        proptest::option::of(value()),
        proptest::option::of(series()),
        set,
        proptest::option::of(Just("-1h30m".to_owned())),
        proptest::collection::vec("[a-z_]{1,9}", 0..3),
    )
        .prop_map(|(name, like, from, set, shift, reset): (_, _, _, BTreeMap<String, String>, _, _)| {
            let set = SheetValues(set);
            Step::Compose(Box::new(ComposeStep {
                name,
                like,
                from,
                set,
                reset,
                shift,
                ..ComposeStep::default()
            }))
        });
    let deliver = deliveries();
    let chart = (
        series(),
        proptest::option::of(series()),
        moment(),
        moment(),
        proptest::option::of(1usize..500),
        value(),
    )
        .prop_map(|(series, with, from, to, ma, out)| {
            Step::Chart(ChartStep { with, from, to, ma, ..ChartStep::of(series, out.into()) })
        });
    let account = (
        proptest::option::of("[A-Z]{3}"),
        proptest::option::of(1i64..1_000_000),
        proptest::option::of(1i64..200),
        any::<bool>(),
        proptest::option::of("[1-9][0-9]{0,3}ms"),
        0i64..9,
        any::<bool>(),
        parsed::<DepthSizes>(&["lots", "units", "none"]),
    );
    let rehearse = (proptest::collection::vec(series(), 1..4), moment(), moment(), path(), account).prop_map(
        |(series, from, to, orders, (account, balance, call, hedged, latency, slippage, through, depth))| {
            let (balance, call) = (balance.map(Into::into), call.map(Into::into));
            let queue = if through { Queue::Through } else { Queue::Touch };
            Step::Rehearse(RehearseStep {
                series,
                from,
                to,
                spread_of: through.then(|| "NOKSEK@quill:ticks".parse().unwrap()),
                orders,
                out: through.then(|| "run.csv".into()),
                table: if through { RehearsalTable::Trades } else { RehearsalTable::Fills },
                layout: through.then(|| "day-first".to_owned()),
                clock: through.then(|| "Europe/Oslo".parse().unwrap()),
                account,
                balance,
                call,
                hedged,
                latency,
                slippage,
                queue,
                depth: Some(depth).filter(|_| through),
                ..RehearseStep::default()
            })
        },
    );
    let undo = (proptest::option::of(series()), any::<bool>()).prop_map(|(series, redo)| {
        if redo { Step::Redo(UndoStep { series }) } else { Step::Undo(UndoStep { series }) }
    });
    let shelf =
        (series(), proptest::option::of(series()), any::<bool>()).prop_map(|(series, rename, remove)| {
            let (series, remove, tidy) =
                (Some(series), rename.is_none() && remove, rename.is_none() && !remove);
            Step::Shelf(ShelfStep { series, rename, remove, tidy })
        });
    prop_oneof![compose, deliver, chart, rehearse, undo, shelf]
}

fn auto() -> impl Strategy<Value = Step> {
    let paths = || proptest::collection::vec(path_of_words(), 1..3);
    let frames = proptest::collection::vec(parsed(&["all", "1h", "9h"]), 1..3);
    let format = parsed(&["csv", "parquet"]);
    let names = (value(), value(), proptest::option::of(value()));
    (paths(), paths(), names, proptest::option::of(path_of_words()), frames, format).prop_map(
        |(files, broker, (source, broker_source, instrument), out, frames, format)| {
            Step::Auto(AutoStep { files, broker, source, broker_source, instrument, out, frames, format })
        },
    )
}

fn fetch() -> impl Strategy<Value = Step> {
    let span = prop_oneof![
        (moment(), moment()).prop_map(|(from, to)| FetchStep { from, to, ..FetchStep::default() }),
        Just(FetchStep { new: true, ..FetchStep::default() }),
        (1u32..400).prop_map(|days| FetchStep { last: Some(days), ..FetchStep::default() }),
    ];
    let series = proptest::collection::vec(series().prop_map(Into::into), 1..3);
    let fetch = (series, span).prop_map(|(series, step)| Step::Fetch(FetchStep { series, ..step }));
    let instruments = proptest::collection::vec(value(), 0..3);
    let update = (instruments, proptest::option::of(path_of_words()))
        .prop_map(|(instruments, recipe)| Step::Update(UpdateStep { instruments, recipe, dry_run: false }));
    prop_oneof![fetch, update]
}

/// A path that may hold anything a word may.
fn path_of_words() -> impl Strategy<Value = std::path::PathBuf> {
    word().prop_map(Into::into)
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![1 => intake(), 1 => fetch(), 1 => auto(), 2 => on_series(), 3 => on_instruments_files_and_the_journal()]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// The command line that is told for a step is that step when a shell reads it.
    #[test]
    fn any_step_is_told_as_the_command_that_does_it(step in step()) {
        let line = step.command_line();
        let words = shlex::split(&line).expect("a line that a shell can read");
        let args = Args::try_parse_from(words).map_err(|e| TestCaseError::fail(format!("{line}: {e}")))?;
        let typed = step_of(&args.command.unwrap(), std::path::Path::new("/none")).unwrap();
        prop_assert_eq!(typed, step, "{}", line);
    }

    /// A recipe holds any step as it is.
    #[test]
    fn any_step_goes_through_a_recipe(steps in proptest::collection::vec(step(), 0..5)) {
        let recipe = Recipe { title: Some("a \"title\"".into()), step: steps };
        let text = recipe.to_text().unwrap();
        let again = Recipe::from_text(&text, std::path::Path::new("r.toml"));
        prop_assert_eq!(again.map_err(|e| TestCaseError::fail(format!("{text}: {e}")))?, recipe);
    }
}

/// Mistakes that are made at a prompt: each is refused before anything is opened, and named.
#[test]
fn mistakes_are_refused_by_the_arguments_themselves() {
    for (line, told) in [
        ("stavel intake", "<PATH>"),
        ("stavel intake a.csv", "--source"),
        (
            "stavel intake a.csv --source quill --dates backwards",
            "possible values: year-first, day-first, month-first",
        ),
        ("stavel intake a.csv --source quill --stamp middle", "possible values: open, close"),
        ("stavel intake a.csv --source quill --prefer both", "possible values: old, new"),
        ("stavel intake a.csv --source quill --frame 1x", "1x"),
        ("stavel intake a.csv --source quill --decimals 300", "300"),
        ("stavel intake a.csv --source quill --add --replace", "--replace"),
        ("stavel intake --retake", "--rejects"),
        ("stavel intake a.csv --rejects X", "--rejects"),
        ("stavel check NOKSEK", "NOKSEK"),
        ("stavel check NOKSEK@quill:1m --mend stub_day", "stub_day"),
        ("stavel check NOKSEK@quill:1m --mend spike,dance", "dance"),
        ("stavel align NOKSEK@tarn:1m", "--to"),
        ("stavel align NOKSEK@tarn:1m --clock Mars", "Mars"),
        ("stavel splice", "<SERIES>"),
        ("stavel splice NOKSEK@tarn:1m", "--into"),
        ("stavel splice NOKSEK@tarn:1m --into j --rule best", "best"),
        ("stavel splice NOKSEK@tarn:1m --refresh --level shift", "--level"),
        ("stavel frames NOKSEK@tarn:1m", "<FRAMES>"),
        ("stavel frames NOKSEK@tarn:1m 5", "'5'"),
        ("stavel frames NOKSEK@tarn:1m 5m --side left", "left"),
        ("stavel compose X --set commission", "KEY=VALUE"),
        ("stavel deliver NOKSEK@tarn:1m", "--out"),
        ("stavel deliver NOKSEK@tarn:1m --out x --format doc", "possible values: csv, json, json-columns"),
        ("stavel deliver NOKSEK@tarn:1m --out x --last -3", "-3"),
        ("stavel chart NOKSEK@tarn:1m", "--out"),
        ("stavel shelf --rename A@b:1m", "<SERIES>"),
        ("stavel shelf A@b:1m --remove --tidy", "--tidy"),
        ("stavel shelf A@b:1m --editions --remove", "--remove"),
        ("stavel shelf --compare 1", "<SERIES>"),
        ("stavel demo --years 0", "0"),
        ("stavel dance", "dance"),
    ] {
        let words = shlex::split(line).unwrap();
        let err = Args::try_parse_from(words).err().unwrap_or_else(|| panic!("{line} is taken"));
        assert!(err.use_stderr(), "{line}");
        assert!(err.to_string().contains(told), "{line}: {err}");
    }
}

#[test]
fn every_argument_has_a_help_of_its_own() {
    fn all(command: &clap::Command, told: &mut usize) {
        for arg in command.get_arguments().filter(|a| !a.is_hide_set()) {
            let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
            let is_own_word =
                command.get_name() == "layout" || matches!(arg.get_id().as_str(), "recipe" | "name" | "file");
            assert!(
                !help.is_empty() || is_own_word || arg.get_id() == "layout",
                "{} {}",
                command.get_name(),
                arg.get_id()
            );
            assert!(!help.ends_with('.'), "{} {}: clap wants no full stop", command.get_name(), arg.get_id());
            *told += 1;
        }
        command.get_subcommands().for_each(|c| all(c, told));
    }
    let mut told = 0;
    all(&Args::command(), &mut told);
    assert!(told > 80, "{told}");
}
