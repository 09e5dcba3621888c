//! The acts of the work as values.
//!
//! A [`Step`] is one act with all its settings. The command line, the bench and recipe files all make steps;
//! [`apply`] does them, and gives a [`StepReport`] for people and programs. A [`Recipe`] is a list of steps in a file.

mod account_money;
mod advice;
mod align;
mod apply;
mod assumptions;
mod auto;
mod bundle;
mod chain;
mod chart;
mod chart_bars;
mod chart_marks;
mod chart_sources;
mod chart_views;
mod check;
mod compose;
mod convert;
mod costs;
mod coverage;
mod dates;
mod deliver;
mod dossier;
mod drawings;
mod fetch;
mod findings;
mod formula;
mod frames;
mod frames_compared;
mod frames_told;
mod intake;
mod page;
mod patterns;
mod picture_file;
mod question;
mod recipe;
mod record;
mod rehearse;
mod report;
mod serve;
mod sheet;
mod span;
mod splice;
mod sql;
mod step;
#[cfg(any(test, fuzzing))]
pub mod trials;
mod undo;
mod update;
mod upkeep;

pub use account_money::AccountWish;
pub use advice::{advice_in_words, error_in_words, with_advice};
pub use align::{doubt_in_words, guess_in_words, minute_of_week, stretches_in_words};
pub use apply::{apply, as_act};
pub use assumptions::of_rows as assumed_of_rows;
pub use bundle::{bundle_recipe, bundle_shelf, unbundle};
pub use chain::chain_in_words;
pub use chart_bars::{ChartBars, ChartRoom, ChartSource, KeptBars, bars_for_chart};
pub use chart_sources::{likeness_near, offsets_shown, step_in_words};
pub use check::check_json;
pub use compose::variation_in_words;
pub use convert::{ConvertWish, convert};
pub use costs::{
    CostMoney, CostSheet, MeasuredSpreads, NightCost, RoundTurn, cost_sheet, costs_csv, costs_report,
    costs_tables,
};
pub use coverage::Coverage;
pub use deliver::{delivery_layout, delivery_orders};
pub use drawings::{PlacedDrawing, placed_among, point_in_words};
pub use fetch::{FedSeries, FeedSight, PieceSight, add_feed, feeds, feeds_report, feeds_seen};
pub use findings::{cause_in_words, finding_in_words, kind_mend_in_words, loss_in_words, mend_in_words};
pub use intake::{hints_of, layout_named, plan_of};
pub use question::{Answer, Question};
pub use recipe::{Done, Recipe, run, what_was_done};
pub use record::{RecordWish, record};
pub use rehearse::{
    KeptHead, KeptMark, KeptRehearsal, Opened, Opening, PlayedOrders, PlayedSeries, RehearsalFile,
    RehearsalFiles, RehearsalOut, account_json, entry_in_words, entry_json, figures_json, journal_lines,
    keep_bracket, kept_rehearsals, moment_svg, open_replay, order_in_words, play_orders, read_brackets,
    read_rehearsal, remark_in_words, spread_rule_in_words, spread_source, write_beside, write_rehearsal,
};
pub use report::{LongList, StepReport, bytes_in_words, counted};
pub use serve::{
    OpenOne, PlayPace, Served, ServedAnswer, ServedReplay, error_event, listen, opener, serve, serve_lines,
};
pub use sheet::{SheetValue, sheet_csv, sheet_report, sheet_values};
pub use span::span_between;
pub use sql::{SqlDialect, shelf_sql};
pub use step::{
    AlignStep, AutoStep, ChartStep, ChartView, CheckStep, ComposeStep, DeliverStep, DossierStep, DrawStep,
    FetchStep, FramesStep, FramesWanted, IntakeStep, Prefer, RehearsalTable, RehearseStep, RollMove,
    RollSetting, RowLimits, SheetValues, ShelfStep, SidesAsked, SidesWanted, SpliceStep, Step, UndoStep,
    UpdateStep, recipe_keys,
};
