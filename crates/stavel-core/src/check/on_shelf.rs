//! Checking and mending on the shelf.

use std::collections::HashMap;

use super::learn_on_shelf::steady_week;
use super::mender::MendSubject;
use super::{
    CheckReport, CheckSubject, Checker, Finding, FindingDetail, FindingKind, Mend, Mended, Mender, Remedy,
};
use crate::job::Job;
use crate::model::provenance::{Disorder, Mending};
use crate::model::{Columns, Field, Instrument, Made, Provenance, SeriesName, Session, Span, Standing};
use crate::store::{CheckMark, EditionInfo, Origin, SeriesInfo, Shelf, ahead};
use crate::{Advice, Error, Result};

/// The session a series is judged by, and whether its hours are known: said, found, or the same in three weeks and
/// more of the rows themselves. Nobody knows when an afloat market opens: only its rows are judged, against hours
/// that never close.
pub(super) fn session_of(shelf: &Shelf, info: &SeriesInfo, job: &Job) -> Result<(Session, bool)> {
    if info.is_afloat() {
        return Ok((Session::always(), false));
    }
    let instrument = shelf.instrument(&info.name.instrument)?;
    let mut session = instrument.sheet.session.clone();
    if instrument.standing("hours") != Standing::Assumed {
        return Ok((session, true));
    }
    let learned = steady_week(shelf, info, &instrument, job)?;
    let is_known = learned.is_some();
    session.week = learned.map_or(session.week, |learned| learned.week);
    Ok((session, is_known))
}

/// What a check of a series rests on beside its rows: the session of its instrument, and how its hours are known.
fn basis_of(shelf: &Shelf, info: &SeriesInfo) -> Result<String> {
    let instrument = shelf.instrument(&info.name.instrument)?;
    let values = Instrument::SESSION.map(|key| instrument.values.get(key).map_or("", String::as_str));
    Ok(format!("{BASIS}|{}|{:?}|{}", values.join("|"), instrument.sheet.kind, instrument.standing("hours")))
}

/// Raised where the same rows come to be graded otherwise: what was kept before is then no longer known.
const BASIS: u32 = 1;

/// The current editions whose whole check is known and still holds, and what it found.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn known_checks(shelf: &Shelf) -> Result<HashMap<i64, CheckMark>> {
    let kept = shelf.kept_checks()?;
    let mut known = HashMap::new();
    for info in shelf.series()? {
        if let Some((basis, mark)) = kept.get(&info.edition.id)
            && *basis == basis_of(shelf, &info)?
        {
            known.insert(info.edition.id, *mark);
        }
    }
    Ok(known)
}

/// Checks the rows of a series within a span. What a check of all its rows found is kept with the edition; see
/// [`known_checks`].
///
/// # Errors
/// Where the series is not there or has nothing in the span, cannot be read, or the person stops it.
pub fn check_series(
    shelf: &Shelf,
    name: &SeriesName,
    span: Span,
    job: &Job,
) -> Result<(SeriesInfo, CheckReport)> {
    let info = shelf.find(name)?;
    info.refuse_layers("checked")?;
    info.refuse_counted("checked")?;
    let (session, knows_hours) = session_of(shelf, &info, job)?;
    let seen = Span::new(info.edition.first, info.edition.last + 1);
    let span = seen.overlap(&span).ok_or_else(|| {
        Error::input(format!(
            "{name} has no rows in that span; it goes from {} to {}.",
            crate::model::time::rfc3339(info.edition.first),
            crate::model::time::rfc3339(info.edition.last)
        ))
    })?;
    let disorder = disorder_of(shelf, &info, span)?;
    let is_positive = shelf.instrument(&info.name.instrument)?.sheet.kind.is_positive();
    let mut checker =
        Checker::new(CheckSubject { session: &session, frame: name.frame, span, is_positive, disorder });
    job.begin(format!("check {name}"), info.edition.rows);
    for rows in ahead(shelf.scan(&info.edition, span, None)?) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        checker.push(rows.with_whole_bars());
    }
    let mut report = checker.finish();
    if info.is_afloat() {
        report.findings.retain(|f| f.kind != FindingKind::Missing);
        report.gaps.clear();
        // When the market is open is not known: a day with rows is a day with rows, and no more can be said.
        report.coverage = None;
        report.days.retain(|d| d.present > 0);
        report.days.iter_mut().for_each(|d| d.expected = d.present);
    }
    // By hours that are only assumed nothing lies outside them.
    if !knows_hours {
        report.findings.retain(|f| f.kind != FindingKind::ClosedMarket);
        report.filler_open += std::mem::take(&mut report.filler_closed);
    }
    for finding in report.findings.iter_mut().filter(|f| f.kind == FindingKind::RepeatedBlock) {
        find_ends(shelf, &info.edition, finding)?;
    }
    report.sort();
    if span == seen {
        shelf.keep_check(info.edition.id, &basis_of(shelf, &info)?, report.mark());
    }
    Ok((info, report))
}

/// Finds the exact ends of a repeated block: from the sampled windows outwards, as long as the rows are those
/// of before.
fn find_ends(shelf: &Shelf, edition: &EditionInfo, finding: &mut Finding) -> Result<()> {
    let Some(Remedy::Again(apart)) = finding.remedy else { return Ok(()) };
    // Windows are sampled every few rows; rows of a day on both sides hold the ends.
    let reach = crate::model::time::DAY;
    let near = Span::new(finding.span.from - reach, finding.span.to + reach);
    let here = shelf.read(edition, near)?;
    let then = shelf.read(edition, Span::new(near.from - apart, near.to - apart))?;
    let same = |i: usize, j: usize| here.time[i] - then.time[j] == apart && here.same_values(i, &then, j);
    let (mut i, mut j) = (
        here.time.partition_point(|t| *t < finding.span.from),
        then.time.partition_point(|t| *t < finding.span.from - apart),
    );
    if i >= here.len() || j >= then.len() {
        return Ok(());
    }
    let (mut last_i, mut last_j) = (i, j);
    while i > 0 && j > 0 && same(i - 1, j - 1) {
        (i, j) = (i - 1, j - 1);
    }
    while last_i + 1 < here.len() && last_j + 1 < then.len() && same(last_i + 1, last_j + 1) {
        (last_i, last_j) = (last_i + 1, last_j + 1);
    }
    let length = finding.span.to - here.time[here.time.partition_point(|t| *t < finding.span.to) - 1];
    finding.span = Span::new(here.time[i], here.time[last_i] + length);
    finding.rows = (last_i - i + 1) as u64;
    Ok(())
}

/// What stood out of order in the files behind an edition, unless a mend has settled it since.
fn disorder_of(shelf: &Shelf, info: &SeriesInfo, span: Span) -> Result<Vec<Finding>> {
    let editions = shelf.editions(&info.name)?;
    let mut out = Vec::new();
    let mut at = Some(info.edition.id);
    while let Some(edition) = at.and_then(|id| editions.iter().find(|e| e.id == id)) {
        let (noted, goes_back) = match &edition.provenance.made {
            Made::Check(mending) if mending.settles_order => break,
            Made::Intake(taken) => (taken.disorder.as_slice(), true),
            // An anchoring carries over what was noted before it, in UTC.
            Made::Align(anchoring) => (anchoring.disorder.as_slice(), false),
            _ => (&[][..], true),
        };
        for place in noted {
            let found = Span::new(place.from, place.to + info.name.frame.length().max(1));
            if found.overlap(&span).is_some() {
                let Disorder { file, line, rows, .. } = place.clone();
                let detail = FindingDetail::CameLate { file, line };
                out.push(Finding { kind: FindingKind::OutOfOrder, span: found, rows, detail, remedy: None });
            }
        }
        at = edition.before.filter(|_| goes_back);
    }
    out.sort_by_key(|f| f.span.from);
    Ok(out)
}

/// What a mend reads beside the rows: the session week decides what lies in closed hours or is missing.
fn inputs_of(shelf: &Shelf, info: &SeriesInfo) -> Result<Vec<crate::model::Input>> {
    if info.is_afloat() {
        return Ok(Vec::new());
    }
    Ok(shelf.instrument(&info.name.instrument)?.inputs(&Instrument::SESSION))
}

/// The mends with all that is safe spelled out: what lies in closed hours may be trade where those are not known.
fn expanded(info: &SeriesInfo, mends: &[Mend], knows_hours: bool) -> Vec<Mend> {
    let mut out: Vec<Mend> = Vec::new();
    for mend in mends {
        match mend {
            Mend::Safe => {
                let bars = info.name.frame.is_bars();
                out.extend(bars.then_some(Mend::Kind(FindingKind::DuplicateTime)));
                out.extend((bars && knows_hours).then_some(Mend::Filler));
            }
            mend => out.push(mend.clone()),
        }
    }
    out
}

/// A mender for the findings of a series, with the rows it moves taken in.
fn mender_for(
    shelf: &Shelf,
    info: &SeriesInfo,
    report: &CheckReport,
    mends: &[Mend],
    within: Span,
) -> Result<(Mender, Vec<Field>)> {
    let (session, knows_hours) = session_of(shelf, info, &Job::unwatched())?;
    let mends = &expanded(info, mends, knows_hours);
    let closed =
        |m: &&Mend| matches!(m, Mend::Kind(FindingKind::ClosedMarket | FindingKind::Missing) | Mend::Filler);
    if info.is_afloat()
        && let Some(mend) = mends.iter().find(closed)
    {
        return Err(Error::input(format!(
            "{} is afloat: its closed hours are not known, so {mend} cannot be mended; find its clock first (stavel align).",
            info.name
        )));
    }
    let of_hours = |m: &&Mend| matches!(m, Mend::Kind(FindingKind::ClosedMarket) | Mend::Filler);
    if let (false, Some(mend)) = (knows_hours, mends.iter().find(of_hours)) {
        return Err(Error::input(format!(
            "The hours of {0} are only assumed, so {mend} could take trade; say them first.",
            info.name.instrument
        ))
        .advise(Advice::SetValue { instrument: info.name.instrument.clone(), key: "hours" }));
    }
    let mut fields = info.edition.fields.clone();
    if mends.contains(&Mend::Kind(FindingKind::Missing)) && !fields.contains(&Field::Origin) {
        fields.push(Field::Origin);
    }
    let span = Span::new(info.edition.first, info.edition.last);
    let subject = MendSubject { session: &session, frame: info.name.frame, span };
    let mut mender = Mender::new(&subject, report, mends, within)?;
    for span in mender.spans_moved() {
        mender.take_moved(shelf.read(&info.edition, span)?);
    }
    Ok((mender, fields))
}

/// The rows of a window before and after mending, without writing anything, and what the mends would do to
/// the whole series.
///
/// # Errors
/// As [`mend_series`].
pub fn preview_mends(
    shelf: &Shelf,
    name: &SeriesName,
    report: &CheckReport,
    mends: &[Mend],
    window: Span,
    job: &Job,
) -> Result<(Columns, Columns, Mended)> {
    let info = shelf.find(name)?;
    let before = shelf.read(&info.edition, window)?;
    let (mut mender, fields) = mender_for(shelf, &info, report, mends, Span::ALL)?;
    let mut after = Columns::empty(&fields, info.edition.scale);
    let mut keep = |rows: Columns| {
        let rows = rows.with_fields(&fields);
        after.append(&rows.rows(rows.range_of(window)));
    };
    for rows in shelf.scan(&info.edition, Span::ALL, None)? {
        let rows = rows?;
        job.advance(0)?;
        keep(mender.push(rows));
    }
    keep(mender.finish());
    Ok((before, after, mender.counts()))
}

/// Mends a series within a span into a new edition; gives what each mend did. Where nothing is to mend, no
/// edition is made.
///
/// # Errors
/// Where a kind has no mend or nothing would be left.
pub fn mend_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    mends: &[Mend],
    within: Span,
    job: &Job,
) -> Result<Mended> {
    let (info, report) = check_series(shelf, name, within, job)?;
    mend_found(shelf, &info, &report, mends, within, job)
}

/// Mends what a check of the series within the same span found.
///
/// # Errors
/// As [`mend_series`].
pub fn mend_found(
    shelf: &mut Shelf,
    info: &SeriesInfo,
    report: &CheckReport,
    mends: &[Mend],
    within: Span,
    job: &Job,
) -> Result<Mended> {
    let name = &info.name;
    let (mut mender, fields) = mender_for(shelf, info, report, mends, within)?;
    let mut mending = Mending {
        mends: mends.iter().map(Mend::to_string).collect(),
        settles_order: mends.contains(&Mend::Kind(FindingKind::OutOfOrder)),
        ..Mending::default()
    };
    let edition = &info.edition;
    let origin = Origin {
        provenance: Provenance::of(Made::Check(mending.clone())).reading(inputs_of(shelf, info)?),
        clock: edition.clock.clone(),
        fields: fields.clone(),
        scale: edition.scale,
    };
    let scan = shelf.scan(edition, Span::ALL, None)?;
    job.begin(format!("mend {name}"), edition.rows);
    let mut draft = shelf.draft(name, origin)?;
    for rows in ahead(scan) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        draft.push(mender.push(rows).with_fields(&fields))?;
    }
    draft.push(mender.finish().with_fields(&fields))?;
    let counts = mender.counts();
    if counts.iter().any(|(_, n)| *n > 0) {
        mending.counts = counts.iter().map(|(m, n)| (m.to_string(), *n)).collect();
        draft.set_made(Made::Check(mending));
        draft.commit()?;
    }
    Ok(counts)
}
