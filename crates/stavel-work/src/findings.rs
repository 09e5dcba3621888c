//! Findings, what they cost and what mends them, in words.

use stavel_core::check::{Finding, FindingDetail, FindingKind, GradeCause, GradeLoss, Keep, Mend};
use stavel_core::model::price::scaled;
use stavel_core::model::time::{length_in_words, wall};

use crate::report::counted;

/// What is wrong with the rows of a finding, with numbers, in a few words.
pub fn finding_in_words(finding: &Finding) -> String {
    let rows = counted(finding.rows, "row");
    match &finding.detail {
        FindingDetail::Rows => rows,
        FindingDetail::ClosedRows { with_trade: 0 } => format!("{rows}, flat and without volume"),
        FindingDetail::ClosedRows { with_trade } => format!("{rows}, {with_trade} with trade"),
        FindingDetail::CameLate { file, line } => format!("{rows} came late, in {file} near line {line}"),
        FindingDetail::Open(open) => format!("{} of open market", length_in_words(*open)),
        FindingDetail::SessionLate(by) => {
            format!("trade begins and ends {} {}", length_in_words(by.abs()), late_or_early(*by))
        }
        FindingDetail::LaterThan { by, other } => {
            format!("written {} {} of {}", length_in_words(by.abs()), late_or_early(*by), other.short())
        }
        FindingDetail::SameAsBefore(apart) => {
            format!("the rows of {}, {} before", wall(finding.span.from - apart), length_in_words(*apart))
        }
        FindingDetail::Away { points, decimals } => {
            let after = if finding.rows == 1 { String::new() } else { format!(" after {rows}") };
            format!("{} away from its neighbours and back{after}", scaled(*points, *decimals))
        }
        FindingDetail::Scaled(tens) => format!("prices are {} times those before", 10f64.powi(*tens)),
        FindingDetail::Level(ratio) => format!("prices are {ratio:.3} times those before: another contract?"),
        FindingDetail::Still { length, usual, with_trade } => {
            let how = if *with_trade { "one price" } else { "flat and without volume, a holiday?" };
            format!("{how} for {}; usual is up to {}", length_in_words(*length), length_in_words(*usual))
        }
        FindingDetail::Wide { spread, usual } => {
            format!("a spread of {} where {usual} are usual", counted(spread.unsigned_abs(), "point"))
        }
        FindingDetail::Apart(points) => format!("up to {} apart", counted(points.unsigned_abs(), "point")),
        FindingDetail::TinyDays { days } => format!(
            "{} on Saturday or Sunday: these days begin at the wrong hour; build them anew on the clock of the session",
            counted(*days as u64, "tiny bar")
        ),
        FindingDetail::ShortDays { days, mean, clock } => format!(
            "{} of about {}: daily bars by {clock} would have a stub a week",
            if *days == 1 { "1 Saturday or Sunday".into() } else { format!("{days} Saturdays or Sundays") },
            length_in_words(*mean)
        ),
    }
}

fn late_or_early(by: i64) -> &'static str {
    if by > 0 { "late" } else { "early" }
}

/// Points taken off a grade, and what for.
pub fn loss_in_words(loss: &GradeLoss) -> String {
    format!("-{:.1} {}", loss.points, cause_in_words(&loss.cause))
}

/// What points are taken off for.
pub fn cause_in_words(cause: &GradeCause) -> String {
    match cause {
        GradeCause::Missing(percent) => format!("{percent:.1} % of open time has no rows"),
        GradeCause::Findings(kind, n) => format!("{} {n}", kind.word()),
    }
}

/// What mending a kind of finding does; none where it has no mend.
pub fn kind_mend_in_words(kind: FindingKind) -> Option<&'static str> {
    let words = match kind {
        FindingKind::OutOfOrder => "keep the rows in order of time, as the shelf has them",
        FindingKind::DuplicateTime => "keep the first of equal rows",
        FindingKind::ConflictingTime => "keep the first of rows at one time (=last, =median keep another)",
        FindingKind::BadOhlc => "widen high and low to hold open and close",
        FindingKind::NonPositive
        | FindingKind::Spike
        | FindingKind::Crossed
        | FindingKind::Frozen
        | FindingKind::WideSpread
        | FindingKind::RepeatedBlock => "drop the rows",
        FindingKind::ClosedMarket => "drop the rows of closed hours",
        FindingKind::Missing => "fill open minutes without rows with flat bars, marked as filled",
        FindingKind::ClockSlip => "move the rows back by the hours they slipped",
        FindingKind::ScaleJump => "rescale the rows, where the jump is a power of ten",
        FindingKind::StubDay | FindingKind::Disagrees => return None,
    };
    Some(words)
}

/// What a mend does, in a few words.
pub fn mend_in_words(mend: &Mend) -> String {
    match mend {
        Mend::Kind(kind) => kind_mend_in_words(*kind).unwrap_or_default().into(),
        Mend::Conflicts(Keep::First) => "keep the first of rows at one time".into(),
        Mend::Conflicts(Keep::Last) => "keep the last of rows at one time".into(),
        Mend::Conflicts(Keep::Median) => "keep the row with the median close of those at one time".into(),
        Mend::Filler => "drop flat rows without volume in closed hours".into(),
        Mend::Safe => "drop bars equal in every value, and filler in closed hours that are known".into(),
        Mend::Move { span, by } => format!(
            "move the rows from {} to {} by {}{}",
            wall(span.from),
            wall(span.to),
            if *by < 0 { "-" } else { "+" },
            length_in_words(by.abs())
        ),
        Mend::Rescale { span, factor } => {
            format!("multiply the prices from {} to {} by {factor}", wall(span.from), wall(span.to))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::Span;
    use stavel_core::model::time::{DAY, HOUR, MINUTE, parse};

    fn told(kind: FindingKind, rows: u64, detail: FindingDetail) -> String {
        let from = parse("2024-03-05 10:00").unwrap();
        finding_in_words(&Finding { kind, span: Span::new(from, from + HOUR), rows, detail, remedy: None })
    }

    #[test]
    fn a_finding_is_told_with_its_numbers_and_one_is_not_many() {
        use FindingDetail::*;
        use FindingKind::*;
        let cases = [
            (told(BadOhlc, 1, Rows), "1 row"),
            (told(ClosedMarket, 3, ClosedRows { with_trade: 0 }), "3 rows, flat and without volume"),
            (told(ClosedMarket, 3, ClosedRows { with_trade: 2 }), "3 rows, 2 with trade"),
            (
                told(OutOfOrder, 1, CameLate { file: "a.csv".into(), line: 7 }),
                "1 row came late, in a.csv near line 7",
            ),
            (told(Missing, 0, Open(90 * MINUTE)), "1 h 30 min of open market"),
            (told(ClockSlip, 0, SessionLate(-HOUR)), "trade begins and ends 1 h early"),
            (
                told(ClockSlip, 0, LaterThan { by: HOUR, other: "NOKSEK@quill:1m".parse().unwrap() }),
                "written 1 h late of quill:1m",
            ),
            (told(RepeatedBlock, 60, SameAsBefore(7 * DAY)), "the rows of 2024-02-27 10:00, 7 d before"),
            (
                told(Spike, 1, Away { points: 1_500, decimals: 5 }),
                "0.01500 away from its neighbours and back",
            ),
            (
                told(Spike, 2, Away { points: 15, decimals: 0 }),
                "15 away from its neighbours and back after 2 rows",
            ),
            (told(ScaleJump, 0, Scaled(-2)), "prices are 0.01 times those before"),
            (told(ScaleJump, 0, Scaled(3)), "prices are 1000 times those before"),
            (told(ScaleJump, 0, Level(1.25)), "prices are 1.250 times those before: another contract?"),
            (
                told(Frozen, 90, Still { length: 90 * MINUTE, usual: 4 * MINUTE, with_trade: true }),
                "one price for 1 h 30 min; usual is up to 4 min",
            ),
            (told(WideSpread, 1, Wide { spread: 1, usual: 0 }), "a spread of 1 point where 0 are usual"),
            (told(Disagrees, 1, Apart(12)), "up to 12 points apart"),
        ];
        for (told, expected) in cases {
            assert_eq!(told, expected);
        }
    }

    #[test]
    fn each_kind_that_can_be_mended_says_what_its_mend_does() {
        for &kind in FindingKind::ALL {
            assert_eq!(kind_mend_in_words(kind).is_some(), kind.is_mendable(), "{}", kind.word());
        }
        let mend: Mend = "move=2024-03-05T10:00:00Z/2024-03-05T11:00:00Z=-1h".parse().unwrap();
        let words = mend_in_words(&mend);
        assert_eq!(words, "move the rows from 2024-03-05 10:00 to 2024-03-05 11:00 by -1 h");
    }
}
