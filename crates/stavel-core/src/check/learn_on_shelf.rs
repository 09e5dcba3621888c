//! Learning the session week of a series on the shelf.

use super::learn::{Learned, Learner};
use crate::job::Job;
use crate::model::{Field, SeriesName, Shape, Span};
use crate::store::{Shelf, ahead};
use crate::{Error, Result};

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
    if info.name.frame.length() > crate::model::time::HOUR {
        return Err(Error::input(format!("Bars of {} are too long to read a session week off.", name.frame)));
    }
    let mut learner = Learner::default();
    job.begin(format!("read the week of {name}"), info.edition.rows);
    let wanted = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume];
    let fields: Vec<Field> = wanted.into_iter().filter(|f| info.edition.fields.contains(f)).collect();
    let bars = crate::model::columns::shape_of(&info.edition.fields) == Shape::Bars;
    let reach = info.name.frame.length().max(1);
    for rows in ahead(shelf.scan(&info.edition, Span::ALL, Some(if bars { &fields } else { &[] }))?) {
        let rows = rows?.with_whole_bars();
        job.advance(rows.len() as u64)?;
        let [open, high, low, close] =
            [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
        let volume = rows.column(Field::Volume);
        for (i, &t) in rows.time.iter().enumerate() {
            let silent = bars && volume.get(i) == Some(&0) && open[i] == close[i] && high[i] == low[i];
            if !silent {
                // A bar of an hour stands for all its slots.
                (0..reach)
                    .step_by(5 * crate::model::time::MINUTE as usize)
                    .for_each(|d| learner.trade(t + d));
            }
        }
    }
    let present = shelf.instrument(&name.instrument)?.sheet.session.week;
    learner.week(&present).ok_or_else(|| {
        Error::input(format!(
            "{name} holds fewer than three whole weeks; its session week cannot be read off."
        ))
    })
}
