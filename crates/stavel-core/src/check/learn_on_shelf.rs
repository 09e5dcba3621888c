//! Learning the session week of a series on the shelf.

use super::learn::{Learned, Learner};
use crate::job::Job;
use crate::model::time::{HOUR, MINUTE, Micros, WEEK};
use crate::model::{Field, Instrument, SeriesName, SessionWeek, Shape, Span, Standing};
use crate::store::{SeriesInfo, Shelf, ahead};
use crate::{Error, Result};

/// Hours are those of the last half year: long enough to hold a change of the clocks, and sessions change.
const RECENT: Micros = 27 * WEEK;
/// How alike the weeks must be, for their hours to be taken without asking.
const STEADY: f64 = 0.9;

/// The session week that the rows of a series have.
///
/// # Errors
/// Where the series is afloat or holds fewer than three whole weeks.
pub fn learn_week(shelf: &Shelf, name: &SeriesName, job: &Job) -> Result<Learned> {
    let info = shelf.find(name)?;
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{name} is afloat: its hours can be read once its clock is known."
        )));
    }
    if info.name.frame.length() > HOUR {
        return Err(Error::input(format!("Bars of {} are too long to read a session week off.", name.frame)));
    }
    let present = shelf.instrument(&name.instrument)?.sheet.session.week;
    let span = Span::new(info.edition.last - RECENT, Micros::MAX);
    learned_of(shelf, &info, span, &present, job)?.ok_or_else(|| {
        Error::input(format!(
            "{name} holds fewer than three whole weeks; its session week cannot be read off."
        ))
    })
}

/// What is learned of the hours of an instrument that nobody has said: the session week of one of its series, where
/// that is steady enough. The sheet then has it, as found.
///
/// # Errors
/// Where the series cannot be read.
pub fn learn_hours(shelf: &mut Shelf, name: &SeriesName, job: &Job) -> Result<Option<Learned>> {
    let (info, instrument) = (shelf.find(name)?, shelf.instrument(&name.instrument)?);
    if instrument.standing("hours") != Standing::Assumed {
        return Ok(None);
    }
    let Some(learned) = steady_week(shelf, &info, &instrument, job)? else { return Ok(None) };
    let mut own = instrument.own;
    own.found.insert("hours".into(), learned.week.to_string());
    shelf.put_instrument(&name.instrument, &own)?;
    Ok(Some(learned))
}

/// The session week of a series where it is steady enough to judge rows by; none where it is afloat, too short, or
/// its bars too long.
pub(super) fn steady_week(
    shelf: &Shelf,
    info: &SeriesInfo,
    instrument: &Instrument,
    job: &Job,
) -> Result<Option<Learned>> {
    let shape = crate::model::columns::shape_of(&info.edition.fields);
    let is_long = info.name.frame.length() > HOUR || info.edition.last - info.edition.first < 3 * WEEK;
    if info.is_afloat() || is_long || matches!(shape, Shape::Layered | Shape::Depth) {
        return Ok(None);
    }
    let span = Span::new(info.edition.last - RECENT, Micros::MAX);
    let learned = learned_of(shelf, info, span, &instrument.sheet.session.week, job)?;
    Ok(learned.filter(|learned| learned.steadiness >= STEADY))
}

/// Reads the session week off the rows within a span; none where they hold fewer than three whole weeks.
fn learned_of(
    shelf: &Shelf,
    info: &SeriesInfo,
    span: Span,
    present: &SessionWeek,
    job: &Job,
) -> Result<Option<Learned>> {
    let mut learner = Learner::default();
    job.begin(format!("read the week of {}", info.name), info.edition.rows);
    let wanted = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    let fields: Vec<Field> = wanted.into_iter().filter(|f| info.edition.fields.contains(f)).collect();
    let bars = crate::model::columns::shape_of(&info.edition.fields) == Shape::Bars;
    let slots = info.name.frame.length() / (5 * MINUTE);
    for rows in ahead(shelf.scan(&info.edition, span, Some(if bars { &fields } else { &[] }))?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        if !bars {
            learner.trades(&rows.time);
            continue;
        }
        let rows = rows.with_whole_bars();
        let [open, high, low, close] =
            [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
        let volume = rows.column(Field::Volume);
        for (i, &t) in rows.time.iter().enumerate() {
            let silent = volume.get(i) == Some(&0) && open[i] == close[i] && high[i] == low[i];
            if !silent {
                learner.trade(t);
                // A bar of an hour stands for all its slots.
                (1..slots).for_each(|slot| learner.trade(t + slot * 5 * MINUTE));
            }
        }
    }
    Ok(learner.week(present))
}
