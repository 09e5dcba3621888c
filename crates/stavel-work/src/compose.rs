//! Making instruments and changing their spec sheets.

use std::collections::BTreeMap;

use clap::{Args, Command, FromArgMatches};
use serde_json::{Value, json};
use stavel_core::compose::{self, ComposeRequest, Edits};
use stavel_core::intake::{self, ClockHint, Hints};
use stavel_core::job::Job;
use stavel_core::model::actions::{Action, ActionKind, Actions};
use stavel_core::model::provenance::{ChainMade, FormulaMade};
use stavel_core::model::stress::Stress;
use stavel_core::model::time::{self, date};
use stavel_core::model::variation::{SpreadChange, Variation};
use stavel_core::model::{Clock, Decision, Made, SeriesName, SessionWeek, Span, Standing};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use crate::chain::{by_chain, by_chain_again, instrument_of};
use crate::dates::holidays_in;
use crate::formula::{by_formula, by_formula_again};
use crate::report::{StepReport, series_made};
use crate::step::ComposeStep;

/// Where the chances of a stress variant begin, where nobody says it.
const USUAL_SEED: u64 = 1;

/// The source of a series that holds what a person edited.
const EDITED: &str = "edited";

/// How the rows of an instrument were made.
enum MadeBefore {
    /// Of another series.
    Variant(Box<(SeriesName, Variation)>),
    /// By a formula.
    Formula(Box<(SeriesInfo, FormulaMade)>),
    /// Of contracts.
    Chain(Box<ChainMade>),
}

/// Makes an instrument, changes its sheet, or makes its rows.
pub fn compose_one(shelf: &mut Shelf, step: &ComposeStep, job: &Job) -> Result<StepReport> {
    step.refuse()?;
    if let Some(text) = &step.formula {
        let (own, _) = own_values(shelf, step)?;
        return by_formula(shelf, step, text, instrument_of(step, own), job);
    }
    if !step.chain.is_empty() {
        let (own, _) = own_values(shelf, step)?;
        return by_chain(shelf, step, instrument_of(step, own), job);
    }
    let before = made_before(shelf, &step.name)?;
    let is_variant = |made: &MadeBefore| matches!(made, MadeBefore::Variant(..));
    let is_chain = |made: &MadeBefore| matches!(made, MadeBefore::Chain(_));
    if step.changes_chain() && !before.iter().any(is_chain) {
        return Err(Error::arguments(format!(
            "{} is no chain whose rolls could be changed; say what it is made of: --chain 'BLY-*'.",
            step.name
        )));
    }
    if step.changes_chain() || step.again && (before.len() > 1 || !before.iter().all(is_variant)) {
        let wanted = |made: &MadeBefore| step.again || is_chain(made);
        return compose_each(shelf, step, before.into_iter().filter(wanted).collect(), job);
    }
    let before = before.into_iter().find_map(|made| match made {
        MadeBefore::Variant(before) => Some(*before),
        _ => None,
    });
    let wants_rows = step.from.is_some() || step.again || step.edited.is_some();
    if !wants_rows && step.variation()? != Variation::default() {
        return Err(Error::arguments(format!(
            "Say which rows {} is to be made of: --from SERIES.",
            step.name
        )));
    }
    let (from, mut variation) = match (&step.from, &before) {
        (Some(from), _) => (Some(from.clone()), step.variation()?),
        (None, Some((from, variation))) if wants_rows => (Some(from.clone()), variation.clone()),
        (None, None) if wants_rows => {
            return Err(Error::arguments(format!(
                "{} has no rows that were composed before; say what they are to be made of: --from SERIES.",
                step.name
            )));
        }
        _ => (None, Variation::default()),
    };
    let edits = match (&step.edited, &from) {
        (Some(file), Some(from)) => {
            let (edited, edits) = take_edits(shelf, step, file, from, job)?;
            variation.edits = Some(edited);
            Some(edits)
        }
        _ => None,
    };
    let (own, zone_note) = own_values(shelf, step)?;
    let request = ComposeRequest { from, variation, ..instrument_of(step, own) };
    let is_seed_assumed = step.seed.is_none() && step.stress()?.is_some();
    let mut made = compose::compose(shelf, &request, job)?;
    made.notes.extend(zone_note);
    let mut told = report(made, edits);
    if is_seed_assumed {
        let why = "nobody said where chances begin; another --seed gives another history";
        told.assumed.push(Decision::new("seed", USUAL_SEED.to_string(), Standing::Assumed, why));
    }
    Ok(told)
}

fn report(made: compose::Composed, edits: Option<Edits>) -> StepReport {
    let series: Vec<Value> = made.series.iter().map(series_made).collect();
    let mut doubts = made.instrument.doubts();
    doubts.extend(made.doubts);
    let mut json =
        json!({"instrument": made.instrument.name, "series": series, "notes": made.notes, "doubts": doubts});
    let like = made.instrument.own.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
    let mut lines = vec![format!("{}{like}: {}", made.instrument.name, made.notes.join("; "))];
    if !made.actions.is_empty() {
        let told = |a: &Action| json!({"day": date(a.day), "kind": a.kind, "said": a.said, "price_factor": a.price, "volume_factor": a.volume});
        json["actions"] = made.actions.iter().map(told).collect();
        lines.extend(made.actions.iter().map(action_line));
    }
    if let Some(edits) = edits {
        json["edits"] = json!({
            "changed": edits.changed, "added": edits.added, "removed": edits.removed, "first": edits.told,
        });
        lines.push(format!(
            "  edited: {} rows changed, {} added, {} taken out",
            edits.changed, edits.added, edits.removed
        ));
        lines.extend(edits.told.iter().map(|t| format!("    {t}")));
    }
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    StepReport {
        wants_person: !doubts.is_empty(),
        changed: made.series.into_iter().map(|s| s.name).collect(),
        ..StepReport::new(json, lines)
    }
}

fn action_line(action: &Action) -> String {
    let volume = match action.kind {
        ActionKind::Split => format!(", volumes x {:.6}", action.volume),
        ActionKind::Dividend => String::new(),
    };
    format!(
        "  {}  {} {}: prices before x {:.8}{volume}",
        date(action.day),
        action.kind,
        action.said,
        action.price
    )
}

/// The values of a step: hours without a zone are those of the instrument's, holidays of a file are written out. Gives a note
/// where a zone was taken over.
fn own_values(shelf: &Shelf, step: &ComposeStep) -> Result<(BTreeMap<String, String>, Option<String>)> {
    let mut own = step.set.0.clone();
    let mut note = None;
    // Of the instrument itself, or of the one it is to be like.
    let shown = [Some(&step.name), step.like.as_ref()];
    let mut zone = None;
    for name in shown.into_iter().flatten() {
        if zone.is_none() && shelf.has_instrument(name)? {
            zone = Some(shelf.instrument(name)?.sheet.session.week.zone);
        }
    }
    if let (Some(hours), Some(zone)) = (own.get_mut("hours"), &zone)
        && hours.split_whitespace().next_back().is_some_and(|last| last.contains(':'))
    {
        *hours = format!("{hours} {zone}");
        note = Some(format!("hours told in {zone}, as before"));
    }
    if let Some(path) = &step.holidays {
        let said =
            own.get("hours").map(|hours| hours.parse::<SessionWeek>()).transpose()?.map(|week| week.zone);
        let zone = said.or(zone).unwrap_or_else(Clock::utc);
        own.insert("holidays".into(), holidays_in(path, &zone)?);
    }
    Ok((own, note))
}

/// Makes each series of an instrument again that was composed, as it was.
fn compose_each(
    shelf: &mut Shelf,
    step: &ComposeStep,
    before: Vec<MadeBefore>,
    job: &Job,
) -> Result<StepReport> {
    if step.edited.is_some() {
        return Err(Error::arguments(format!(
            "{} has rows of several series; name the one that was edited with --from.",
            step.name
        )));
    }
    let (own, note) = own_values(shelf, step)?;
    let mut instrument = instrument_of(step, own);
    let mut all = StepReport::new(json!({ "instrument": step.name, "series": [] }), Vec::new());
    let is_one = before.len() == 1;
    for made in before {
        let told = match made {
            MadeBefore::Variant(before) => {
                let (from, variation) = *before;
                let request = ComposeRequest { from: Some(from), variation, ..instrument.clone() };
                let mut made = compose::compose(shelf, &request, job)?;
                made.notes.extend(note.clone().filter(|_| all.lines.is_empty()));
                report(made, None)
            }
            MadeBefore::Formula(before) => {
                by_formula_again(shelf, instrument.clone(), &before.0, &before.1, job)?
            }
            MadeBefore::Chain(made) => by_chain_again(shelf, step, instrument.clone(), &made, job)?,
        };
        if is_one {
            return Ok(told);
        }
        add(&mut all, told);
        // The sheet was written with the first of them.
        instrument.own.clear();
        instrument.reset.clear();
    }
    Ok(all)
}

/// Adds what is told of one series to what is told of those before it.
fn add(all: &mut StepReport, told: StepReport) {
    if let (Some(series), Some(more)) = (all.json["series"].as_array_mut(), told.json["series"].as_array()) {
        series.extend(more.iter().cloned());
    }
    all.lines.extend(told.lines);
    all.changed.extend(told.changed);
    all.assumed.extend(told.assumed);
    all.wants_person |= told.wants_person;
}

/// How the series of an instrument were composed.
fn made_before(shelf: &Shelf, instrument: &str) -> Result<Vec<MadeBefore>> {
    if !shelf.has_instrument(instrument)? {
        return Ok(Vec::new());
    }
    let how = |info: SeriesInfo| match &info.edition.provenance.made {
        Made::Compose(made) => {
            let base = info.edition.provenance.parents().next()?.1.clone();
            Some(MadeBefore::Variant(Box::new((base, made.variation.clone()))))
        }
        Made::Formula(made) => Some(MadeBefore::Formula(Box::new((info.clone(), (**made).clone())))),
        Made::Chain(made) => Some(MadeBefore::Chain(made.clone())),
        _ => None,
    };
    Ok(shelf.series_of(instrument)?.into_iter().filter_map(how).collect())
}

/// Takes in a file that was edited and keeps of it what differs from the base.
fn take_edits(
    shelf: &mut Shelf,
    step: &ComposeStep,
    file: &std::path::Path,
    base: &SeriesName,
    job: &Job,
) -> Result<(SeriesName, Edits)> {
    shelf.find(base)?;
    let hints = Hints {
        source: EDITED.into(),
        instrument: Some(step.name.clone()),
        frame: Some(base.frame),
        clock: step.edited_clock.clone().map(ClockHint::Known),
        replace: true,
        ..Hints::default()
    };
    let planned = intake::plan(shelf, &[file.to_owned()], &hints)?;
    let [plan] = planned.plans.as_slice() else {
        return Err(Error::input(format!(
            "{} is not one series of bars of {}; give one file of it.",
            file.display(),
            base.frame
        )));
    };
    let taken = intake::take(shelf, plan, job)?;
    let Some(taken) = taken.into_iter().next() else {
        return Err(Error::input(format!("{} has no rows.", file.display())));
    };
    if taken.rows_rejected > 0 {
        return Err(Error::input(format!(
            "{} of the rows of {} cannot be understood, so it is not known what was meant by them; nothing was changed.",
            taken.rows_rejected,
            file.display()
        )));
    }
    let info = shelf.find(&plan.series)?;
    let Some(clock) = &info.edition.clock else {
        return Err(Error::input(format!(
            "The times of {} name no zone; say on which clock they are: --edited-clock UTC.",
            file.display()
        )));
    };
    let utc = |written| clock.from_wall(written).settle();
    let span =
        plan.preview.scanned.ends.map_or(Span::ALL, |(first, last)| Span::new(utc(first), utc(last) + 1));
    let edits = Edits::find(shelf, base, &info.name, span)?;
    Ok((info.name, edits))
}

/// How the rows of a variant differ from those of its base, in a few words each.
pub fn variation_in_words(v: &Variation) -> Vec<String> {
    let mut out = Vec::new();
    if v.shift != 0 {
        out.push(format!("moved by {}", time::length_in_words(v.shift)));
    }
    out.extend(v.since.map(|t| format!("from {}", time::wall(t))));
    out.extend(v.until.map(|t| format!("until {}", time::wall(t))));
    out.extend(v.days.map(|days| format!("days {days}")));
    if v.inverse {
        out.push("turned over".into());
    }
    out.extend(v.scale.map(|scale| format!("prices times {scale}")));
    out.extend(v.spread.as_ref().map(|spread| match spread {
        SpreadChange::Added(points) => format!("spread {points:+} points"),
        SpreadChange::Times(factor) => format!("spread times {factor}"),
        SpreadChange::Hours { of, share } => format!("spread by the hour as {of}, {share}"),
    }));
    out.extend(v.side.map(|side| format!("the {side} alone")));
    out.extend(v.adjusted.map(|which| match which {
        Actions::Splits => "adjusted for splits".to_owned(),
        Actions::All => "adjusted for splits and dividends".to_owned(),
    }));
    out.extend(v.stress.as_ref().map(|s| format!("made up for a stress test: {}", s.in_words().join(", "))));
    out.extend(v.edits.as_ref().map(|edits| format!("edited by hand: {edits}")));
    out
}

impl ComposeStep {
    /// A step out of options that were typed without their dashes: `days=mon-thu shift=1h inverse`.
    ///
    /// # Errors
    /// One sentence for an option that there is not, or that cannot be read.
    pub fn typed(name: &str, from: Option<SeriesName>, text: &str) -> Result<ComposeStep> {
        let mut words = vec!["compose".to_owned(), name.to_owned()];
        for word in text.split_whitespace() {
            words.push(format!("--{}", word.trim_start_matches('-')));
        }
        let command = ComposeStep::augment_args(Command::new("compose"));
        let matches = command.try_get_matches_from(words).map_err(|e| {
            let text = e.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
            Error::arguments(format!("{first}."))
        })?;
        let step = ComposeStep::from_arg_matches(&matches)
            .map_err(|e| Error::arguments(e.to_string().lines().next().unwrap_or_default().to_owned()))?;
        Ok(ComposeStep { from: step.from.clone().or(from), ..step })
    }

    /// True where it says how a chain rolls or is adjusted.
    pub(crate) fn changes_chain(&self) -> bool {
        self.roll.is_some() || self.adjust.is_some() || self.forward || !self.move_roll.is_empty()
    }

    /// # Errors
    /// Where settings do not go together.
    fn refuse(&self) -> Result<()> {
        let (is_formula, is_chain) = (self.formula.is_some(), !self.chain.is_empty());
        if (is_formula || is_chain) && self.variation()? != Variation::default() {
            let what = if is_formula { "formula" } else { "chain" };
            return Err(Error::arguments(format!(
                "A {what} and a variant are two instruments: make {} by the {what} first, then another one --from it.",
                self.name
            )));
        }
        if is_formula && self.changes_chain() {
            return Err(Error::arguments(
                "A formula has no rolls; --roll, --adjust and --move-roll are of a chain.",
            ));
        }
        if self.stale.is_some() && !is_formula {
            return Err(Error::arguments("--stale is of a formula; say --formula too."));
        }
        if (self.source.is_some() || self.frame.is_some()) && !is_formula && !is_chain {
            return Err(Error::arguments(
                "--source and --frame are of a formula or a chain; the rows of a variant are named with --from SERIES.",
            ));
        }
        Ok(())
    }

    /// How the rows differ from those they come from.
    ///
    /// # Errors
    /// Where a time or a length cannot be read, or two settings of the spread contradict each other.
    pub fn variation(&self) -> Result<Variation> {
        let moment = |text: &Option<String>| text.as_deref().map(time::parse).transpose();
        let added = self.add_spread.map(SpreadChange::Added);
        let times = self.times_spread.map(SpreadChange::Times);
        let share = self.spread_share.unwrap_or_default();
        let hours = self.spread_of.clone().map(|of| SpreadChange::Hours { of, share });
        let mut said = [added, times, hours].into_iter().flatten();
        let spread = said.next();
        if said.next().is_some() {
            return Err(Error::arguments(
                "The spread can be changed in one way: --add-spread, --times-spread or --spread-of.",
            ));
        }
        if self.spread_share.is_some() && self.spread_of.is_none() {
            return Err(Error::arguments(
                "--spread-share is of the series that --spread-of names; name one.",
            ));
        }
        Ok(Variation {
            shift: self.shift.as_deref().map_or(Ok(0), time::parse_length)?,
            since: moment(&self.since)?,
            until: moment(&self.until)?,
            days: self.days,
            inverse: self.inverse,
            scale: self.scale,
            spread,
            side: self.side,
            adjusted: self.adjusted,
            stress: self.stress()?.map(Box::new),
            edits: None,
        })
    }

    /// What is made up for a stress test; none where nothing is.
    fn stress(&self) -> Result<Option<Stress>> {
        let delay = self.delay.as_deref().map_or(Ok(0), time::parse_length)?;
        if delay < 0 {
            return Err(Error::arguments(
                "Prices cannot be seen before they are there; give --delay a length as 2s.",
            ));
        }
        let stress = Stress {
            seed: 0,
            shuffle: self.shuffle,
            mirror: self.mirror,
            noise: self.noise.unwrap_or(0).into(),
            slippage: self.slippage.unwrap_or(0).into(),
            missing: self.missing,
            delay,
        };
        match stress == Stress::default() {
            true if self.seed.is_some() => Err(Error::arguments(
                "A seed is of chances: say --noise, --slippage, --missing, --shuffle, --mirror or --delay too.",
            )),
            true => Ok(None),
            false => Ok(Some(Stress { seed: self.seed.unwrap_or(USUAL_SEED), ..stress })),
        }
    }
}
