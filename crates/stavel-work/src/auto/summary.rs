//! What a user wants to know of a joined history, on one screen.

use stavel_core::Result;
use stavel_core::model::time::{date, day_of};
use stavel_core::model::{Made, SeriesName};
use stavel_core::store::{EditionInfo, Shelf};

use crate::dossier::line_of_editions;

/// The span of a joined history, the rows of each source, the clocks and the mends.
///
/// # Errors
/// If the catalog cannot be read.
pub fn summary_of(shelf: &Shelf, joined: &SeriesName) -> Result<Vec<String>> {
    let info = shelf.find(joined)?;
    let edition = &info.edition;
    let mut lines = vec![format!(
        "{joined}: {} … {}, {} rows",
        date(day_of(edition.first)),
        date(day_of(edition.last)),
        edition.rows
    )];
    for (_, source) in edition.provenance.parents() {
        let Some(source) = shelf.current(source)? else { continue };
        for edition in line_of_editions(shelf, &source)?.iter().rev() {
            lines.extend(told(&source.name, edition));
        }
    }
    Ok(lines)
}

/// A line about a mend or a clock.
fn told(name: &SeriesName, edition: &EditionInfo) -> Option<String> {
    match &edition.provenance.made {
        Made::Check(mending) => {
            let counts: Vec<String> =
                mending.counts.iter().map(|(mend, rows)| format!("{mend} {rows}")).collect();
            Some(format!("  mended    {}: {}", name.short(), counts.join(", ")))
        }
        Made::Align(anchoring) => {
            let clock = edition.clock.as_ref()?;
            let how = match anchoring.confidence {
                Some(share) => format!("{:.0} % of the weeks agree", share * 100.0),
                None => "set by the user".into(),
            };
            Some(format!("  clock     {}: {clock}, {how}", name.short()))
        }
        _ => None,
    }
}
