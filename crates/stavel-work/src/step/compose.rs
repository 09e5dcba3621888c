//! The settings of compose.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::{Arg, ArgAction, ArgMatches, Args, Command};
use serde::{Deserialize, Serialize};

use stavel_core::Result;
use stavel_core::model::actions::Actions;
use stavel_core::model::chain::RollAdjust;
use stavel_core::model::session::Weekdays;
use stavel_core::model::stress::{Share, Stretches};
use stavel_core::model::variation::{Factor, SpreadShare};
use stavel_core::model::{Clock, Frame, SeriesName, Side};

use super::roll::{RollMove, RollSetting};
use super::settings::{is_default, one_of};

/// An instrument to make or change.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ComposeStep {
    /// The instrument.
    pub name: String,
    /// The instrument it takes its values from.
    #[arg(long, value_name = "INSTRUMENT")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
    /// The series its rows come from.
    #[arg(long, value_name = "SERIES")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<SeriesName>,
    /// Rows by a formula over instruments, as 'NZDSEK / NOKSEK'; docs/formulas.md tells the language.
    #[arg(long, value_name = "FORMULA", conflicts_with_all = ["from", "again", "edited"])]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub formula: Option<String>,
    /// Rows of futures contracts one behind the other: series, instruments or patterns as 'BLY-*', divided by commas.
    #[arg(long, value_name = "CONTRACTS", value_delimiter = ',', conflicts_with_all = ["from", "again", "edited", "formula"])]
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub chain: Vec<String>,
    /// When the chain rolls: volume or oi (a later contract has more), days=5 before expiry, or dates=FILE.
    #[arg(long, value_name = "RULE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub roll: Option<RollSetting>,
    /// How the jump at a roll is taken out of the prices.
    #[arg(long, value_parser = one_of::<RollAdjust>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adjust: Option<RollAdjust>,
    /// Adjust forward: the first contract keeps its prices; else the last one does.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub forward: bool,
    /// Put the roll out of a contract elsewhere, as BLY-2024-03=2024-02-19 (its session day) or with a time in UTC.
    #[arg(long, value_name = "CONTRACT=DATE", value_delimiter = ',')]
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub move_roll: Vec<RollMove>,
    /// The source of the legs of a formula or the contracts of a chain that name none, and of the result.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The frame of the legs or contracts: ticks, 1m and so on.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frame: Option<Frame>,
    /// How long a price of a leg holds, as 10s; of bars how long a close stands in for missing ones.
    #[arg(long, value_name = "LENGTH")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stale: Option<String>,
    #[command(flatten)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub set: SheetValues,
    /// Take values of its own away: what it inherits or its rows show counts again.
    #[arg(long, value_name = "KEY", value_delimiter = ',')]
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reset: Vec<String>,
    /// A file of holidays: an iCalendar, or lines as 2024-12-25 and 2024-12-24 -13:00.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub holidays: Option<PathBuf>,
    /// Added to every time of the rows, as 1h or -30m.
    #[arg(long, allow_hyphen_values = true)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shift: Option<String>,
    /// Only rows of session days of these weekdays, as mon-thu or mon,wed.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<Weekdays>,
    /// Only rows from this moment on.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Only rows before this moment.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// One divided by each price: the pair the other way round.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub inverse: bool,
    /// Multiply each price, as 0.01; turned over first where --inverse says so.
    #[arg(long, value_name = "FACTOR")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<Factor>,
    /// So many points more of spread, or less, as -3.
    #[arg(long, value_name = "POINTS", allow_hyphen_values = true)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub add_spread: Option<i64>,
    /// Multiply each spread, as 1.5.
    #[arg(long, value_name = "FACTOR")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub times_spread: Option<Factor>,
    /// Spreads by the hour of the week as this series has them.
    #[arg(long, value_name = "SERIES")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_of: Option<SeriesName>,
    /// Which spread of an hour --spread-of takes.
    #[arg(long, value_parser = one_of::<SpreadShare>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_share: Option<SpreadShare>,
    /// One price alone: bid, ask or mid.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
    /// Adjust prices before splits and dividends, by the dated facts of the instrument the rows come from.
    #[arg(long, value_parser = one_of::<Actions>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adjusted: Option<Actions>,
    /// Stress: let days, each with those of its weekday, or weeks stand in each other's places, by chance.
    #[arg(long, value_parser = one_of::<Stretches>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shuffle: Option<Stretches>,
    /// Stress: turn prices over about the first one, so that what rose falls.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub mirror: bool,
    /// Stress: add noise of so many points of standard deviation to prices.
    #[arg(long, value_name = "POINTS")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<u32>,
    /// Stress: up to so many points that the bid is lower and the ask higher, by chance.
    #[arg(long, value_name = "POINTS")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slippage: Option<u32>,
    /// Stress: let a share of the minutes go missing, as 1%.
    #[arg(long, value_name = "SHARE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing: Option<Share>,
    /// Stress: let rows come later, as 2s; of bars by whole bars.
    #[arg(long, value_name = "LENGTH")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delay: Option<String>,
    /// Of stress: where its chances begin; the same number gives the same rows.
    #[arg(long, value_name = "N")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// A file of the rows that was delivered and edited; what differs stands in for the rows it was made of.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub edited: Option<PathBuf>,
    /// The clock of the edited file, where its times name no zone.
    #[arg(long, value_name = "CLOCK", requires = "edited")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub edited_clock: Option<Clock>,
    /// Make its rows again as they were made before, of what its base is now.
    #[arg(long, conflicts_with = "from")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub again: bool,
}

/// Values of a spec sheet by key, as written. Typed as `--set KEY=VALUE`; two keys have options of their own.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SheetValues(pub BTreeMap<String, String>);

impl SheetValues {
    /// One value.
    pub fn one(key: &str, value: &str) -> SheetValues {
        SheetValues([(key.to_owned(), value.to_owned())].into())
    }
}

/// The keys of the spec sheet that are options by themselves: name, form of the value, help.
pub const KEY_OPTIONS: [(&str, &str, &str); 2] = [
    ("hours", "WEEK", "Session week, as 'mon-fri 08:00-17:00 Europe/Oslo'"),
    ("spread", "POINTS", "Fixed spread in points"),
];

impl Args for SheetValues {
    fn augment_args(command: Command) -> Command {
        let set = Arg::new("set").long("set").value_name("KEY=VALUE").action(ArgAction::Append);
        let command = command.arg(
            set.help("A value of the spec sheet of its own; in a recipe a table of keys and values")
                .value_parser(key_and_value),
        );
        KEY_OPTIONS.iter().fold(command, |command, (key, form, help)| {
            command.arg(Arg::new(*key).long(*key).value_name(*form).help(*help))
        })
    }

    fn augment_args_for_update(command: Command) -> Command {
        SheetValues::augment_args(command)
    }
}

impl clap::FromArgMatches for SheetValues {
    fn from_arg_matches(matches: &ArgMatches) -> Result<SheetValues, clap::Error> {
        let set = matches.get_many::<(String, String)>("set").unwrap_or_default().cloned();
        let own = KEY_OPTIONS.iter().filter_map(|(key, ..)| {
            matches.get_one::<String>(key).map(|value| (key.to_string(), value.clone()))
        });
        Ok(SheetValues(set.chain(own).collect()))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        self.0.extend(SheetValues::from_arg_matches(matches)?.0);
        Ok(())
    }
}

fn key_and_value(text: &str) -> Result<(String, String), String> {
    let (key, value) = text.split_once('=').ok_or("it is not KEY=VALUE; write --set commission=3.50")?;
    Ok((key.into(), value.into()))
}
