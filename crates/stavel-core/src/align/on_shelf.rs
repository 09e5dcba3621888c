//! Aligning on the shelf.

use serde_json::json;

use super::{Evidence, Fit, WeekFit, anchor, correlate, fit, longest_bars};
use crate::job::Job;
use crate::model::time::MINUTE;
use crate::model::{Clock, Columns, Field, Micros, SeriesName, Span};
use crate::store::{Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Everything found out about the clock of a series.
pub struct Study {
    pub here: SeriesInfo,
    pub there: SeriesInfo,
    pub weeks: Vec<WeekFit>,
    pub fit: Fit,
    pub evidence: Vec<Evidence>,
}

impl Study {
    /// True where a clock was found that can be trusted.
    pub fn is_sure(&self) -> bool {
        self.fit.confidence >= super::LEAST_CONFIDENCE && self.fit.weeks.iter().any(|w| w.agrees)
    }
}

/// Compares a series with an anchored one and fits a clock.
///
/// # Errors
/// Where the other series is afloat itself, or there is nothing to compare.
pub fn study(shelf: &Shelf, name: &SeriesName, to: &SeriesName, job: &Job) -> Result<Study> {
    let (here, there) = (shelf.find(name)?, shelf.find(to)?);
    if there.is_afloat() {
        return Err(Error::input(format!("{to} is afloat itself; align to a series whose clock is known.")));
    }
    if name == to {
        return Err(Error::arguments(format!("{name} cannot be aligned to itself.")));
    }
    let step = name.frame.length().max(to.frame.length()).max(MINUTE);
    let mut mine = bars(shelf, &here, step, Span::ALL)?;
    if let Some(clock) = &here.edition.clock {
        // An anchored series is studied in the times it was written in.
        mine.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
        mine.sort();
    }
    // Only what can overlap is read of the other side.
    let day = crate::model::time::DAY;
    let near = mine.ends().map_or(Span::ALL, |(a, b)| Span::new(a - 9 * day, b + 9 * day));
    let theirs = bars(shelf, &there, step, near)?;
    let weeks = correlate(&mine, &theirs, step, job)?;
    let fit = fit(&weeks);
    let evidence = longest_bars(&mine, &theirs, &fit.clock, 10);
    Ok(Study { here, there, weeks, fit, evidence })
}

/// High, low and close of a series in bars of `step`.
pub fn bars(shelf: &Shelf, info: &SeriesInfo, step: Micros, span: Span) -> Result<Columns> {
    let shape = crate::model::columns::shape_of(&info.edition.fields);
    let [high, low, close] = match shape {
        crate::model::Shape::Bars => [Field::High, Field::Low, Field::Close],
        crate::model::Shape::Quotes => [Field::Bid; 3],
        crate::model::Shape::Trades => [Field::Last; 3],
        crate::model::Shape::Depth => [Field::Price; 3],
    };
    let mut out = Columns::empty(&[Field::High, Field::Low, Field::Close], info.edition.scale);
    for rows in shelf.scan(&info.edition, span, Some(&[high, low, close]))? {
        let rows = rows?;
        let (high, low, close) = (rows.column(high), rows.column(low), rows.column(close));
        for i in 0..rows.len() {
            let start = rows.time[i].div_euclid(step) * step;
            if out.time.last() == Some(&start) {
                let at = out.len() - 1;
                out.data[0][at] = out.data[0][at].max(high[i]);
                out.data[1][at] = out.data[1][at].min(low[i]);
                out.data[2][at] = close[i];
            } else {
                out.time.push(start);
                out.data.iter_mut().zip([high[i], low[i], close[i]]).for_each(|(c, v)| c.push(v));
            }
        }
    }
    Ok(out)
}

/// Anchors an afloat series by a clock: a new edition in UTC. Gives the doubtful wall times.
///
/// # Errors
/// Where the series is anchored already.
pub fn anchor_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    clock: &Clock,
    detail: serde_json::Value,
) -> Result<u64> {
    let info = shelf.find(name)?;
    if !info.is_afloat() {
        return Err(Error::input(format!(
            "{name} is anchored already; stavel undo {name} sets it afloat again."
        )));
    }
    let mut rows = shelf.read(&info.edition, Span::ALL)?;
    let doubtful = anchor(&mut rows, clock);
    let mut detail = detail;
    detail["doubtful_times"] = json!(doubtful);
    detail["disorder"] = anchored_disorder(shelf, &info, clock)?;
    let origin = Origin {
        act: "align",
        detail,
        clock: Some(clock.clone()),
        fields: info.edition.fields.clone(),
        scale: info.edition.scale,
    };
    let mut draft = shelf.draft(name, origin)?;
    draft.push(rows)?;
    draft.commit()?;
    Ok(doubtful)
}

/// What intake noted of rows out of order, with its times moved to UTC.
fn anchored_disorder(shelf: &Shelf, info: &SeriesInfo, clock: &Clock) -> Result<serde_json::Value> {
    let mut places = Vec::new();
    for edition in shelf.editions(&info.name)? {
        for place in edition.detail["disorder"].as_array().into_iter().flatten() {
            let mut place = place.clone();
            for key in ["from", "to"] {
                place[key] = json!(clock.from_wall(place[key].as_i64().unwrap_or_default()).settle());
            }
            places.push(place);
        }
    }
    Ok(json!(places))
}
