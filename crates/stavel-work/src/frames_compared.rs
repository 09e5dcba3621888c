//! A source's own longer bars beside those built from its short ones.

use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::frames::{Difference, DifferenceKind, FrameComparison, compare_frame, own_long_frames};
use stavel_core::job::Job;
use stavel_core::model::SeriesPattern;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{self, MINUTE, rfc3339};
use stavel_core::store::Shelf;

use crate::patterns::bases;
use crate::report::StepReport;

/// Holds the longer bars that a source itself has against those built from its short ones.
pub fn compare_frames(shelf: &Shelf, of: &SeriesPattern, job: &Job) -> Result<StepReport> {
    let (mut json, mut lines, mut wants_person) = (Vec::new(), Vec::new(), false);
    for base in bases(shelf, of)? {
        let base = shelf.find(&base)?;
        let all = own_long_frames(shelf, &base)?;
        if all.is_empty() {
            lines.push(format!("{}: the source has no longer bars of its own", base.name));
        }
        for own in all {
            let compared = compare_frame(shelf, &base, &own, job)?;
            let decimals = own.edition.scale.price.max(base.edition.scale.price);
            wants_person |= compared.differences.iter().any(|d| is_doubtful(d.kind));
            lines.push(format!(
                "{} against bars built from {}: {} of {} equal",
                own.name, base.name, compared.equal, compared.bars
            ));
            lines.extend(
                compared.differences.iter().map(|d| format!("  {}", in_words(d, &compared, decimals))),
            );
            let kinds: Vec<Value> = compared.differences.iter().map(difference_json).collect();
            json.push(json!({
                "series": own.name, "built_from": base.name, "bars": compared.bars, "equal": compared.equal,
                "offset_minutes": compared.offset.map(|o| o / MINUTE), "differences": kinds,
            }));
        }
    }
    Ok(StepReport { wants_person, ..StepReport::new(json!({ "compared": json }), lines) })
}

/// True for what is wrong in one of both; ends and holes are as they must be.
fn is_doubtful(kind: DifferenceKind) -> bool {
    matches!(kind, DifferenceKind::Boundary | DifferenceKind::Side | DifferenceKind::Value)
}

fn difference_json(d: &Difference) -> Value {
    json!({
        "kind": d.kind.word(), "bars": d.bars, "first": rfc3339(d.first), "last": rfc3339(d.last),
        "most_points": d.most,
    })
}

fn in_words(d: &Difference, of: &FrameComparison, decimals: u8) -> String {
    let at = time::wall(d.first);
    let most = scaled(d.most, decimals);
    let mark = if is_doubtful(d.kind) { "▲" } else { "·" };
    let what = match d.kind {
        DifferenceKind::Boundary => match of.offset {
            Some(offset) => {
                format!(
                    "begin {} min from those that are built: other session days; say its clock",
                    offset / MINUTE
                )
            }
            None => "begin within those that are built: other session days or hours".to_owned(),
        },
        DifferenceKind::MissingRows => {
            format!("reach further, by {most} at most, where short bars are missing")
        }
        DifferenceKind::Side => {
            format!("lie off in all four prices, by {most} at most: they are of another side")
        }
        DifferenceKind::Partial => "are at an end of the rows and not whole".to_owned(),
        DifferenceKind::Alone => "have nothing beside them".to_owned(),
        DifferenceKind::Value => format!("have other prices, by {most} at most, and nothing explains it"),
    };
    format!("{mark} {} bars {what}; the first {at}", d.bars)
}
