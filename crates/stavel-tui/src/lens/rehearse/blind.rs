//! Blind practice: a day by chance, of which neither name nor date is seen and whose prices are rescaled.

use stavel_core::model::time::{DAY, MINUTE, date, day_of};
use stavel_core::model::{Field, SeriesName, Side};
use stavel_core::rehearse::PriceFactor;
use stavel_core::store::SeriesInfo;

use super::RehearseLens;
use super::calendar::playable;
use crate::effect::{Effect, Effects, Tone, say, warn};
use crate::mask::Mask;
use crate::view::View;

/// Days with rows that have to lie before the one that is played, so that the chart has something to show.
const BEFORE: usize = 3;

/// True where nobody has to be asked for the spread: that would tell which history it is.
fn knows_its_spread(info: &SeriesInfo, view: &View<'_>) -> bool {
    let fields = &info.edition.fields;
    let says = |field: Field| fields.contains(&field);
    let of_sheet = view.snapshot.instrument(&info.name.instrument).and_then(|i| i.sheet.spread);
    let ask = SeriesName { side: Side::Ask, ..info.name.clone() };
    let has_ask = info.name.side == Side::Bid && view.snapshot.find(&ask).is_some();
    says(Field::Ask) || says(Field::Spread) || of_sheet.is_some() || has_ask
}

impl RehearseLens {
    /// Begins blind practice; while it is hidden, reveals what it is.
    pub(super) fn blind_or_reveal(&mut self, view: &View<'_>) -> Effects {
        match self.is_hidden {
            true => self.reveal(),
            false => self.begin_blind(view),
        }
    }

    fn begin_blind(&mut self, view: &View<'_>) -> Effects {
        let choices: Vec<_> = playable(view)
            .into_iter()
            .filter(|info| info.name.frame.length() <= MINUTE && knows_its_spread(info, view))
            .filter_map(|info| {
                let coverage = view.snapshot.coverage.get(&info.edition.id)?;
                // Days that are about as full as usual.
                let full = coverage.days.iter().skip(BEFORE).filter(|(_, rows)| *rows * 2 >= coverage.usual);
                let days: Vec<i64> = full.map(|(day, _)| *day).collect();
                (!days.is_empty()).then_some((info, days))
            })
            .collect();
        if choices.is_empty() {
            return warn("no ticks or minutes with enough days are on the shelf");
        }
        let (info, days) = &choices[fastrand::usize(..choices.len())];
        let day = days[fastrand::usize(..days.len())];
        // Between two thirds and one and a half times, never the price itself.
        let times = [fastrand::i64(667..=900), fastrand::i64(1111..=1500)][fastrand::usize(..2)];
        self.blind = Some(PriceFactor { times, per: 1000 });
        (self.is_hidden, self.beside, self.until) = (true, Vec::new(), None);
        self.begin_anew(day * DAY);
        self.blind_series = Some(info.name.clone());
        vec![
            Effect::Select(info.name.clone()),
            Effect::Say("blind practice: V reveals what it is".to_owned(), Tone::Plain),
        ]
    }

    fn reveal(&mut self) -> Effects {
        self.is_hidden = false;
        let (Some(play), Some(factor)) = (&self.play, self.blind) else { return Effects::new() };
        say(format!(
            "it was {} from {} on; its prices are shown times {}.{:03}",
            play.series(),
            date(day_of(play.began)),
            factor.times / factor.per,
            factor.times % factor.per
        ))
    }

    /// Another series that a person chose ends blind practice.
    pub(super) fn see_if_blind_goes_on(&mut self, view: &View<'_>) {
        if self.blind.is_some() && self.blind_series.as_ref() != view.selected {
            (self.blind, self.is_hidden, self.blind_series) = (None, false, None);
        }
    }

    /// What is hidden while practice is blind.
    pub(super) fn mask(&self) -> Option<Mask> {
        if !self.is_hidden {
            return None;
        }
        let mut names = Vec::new();
        let mut first_day = 0;
        if let Some(play) = &self.play {
            let one = &play.played[0];
            let (name, sheet) = (&one.info.name, &one.instrument.sheet);
            names =
                vec![name.instrument.clone(), name.source.clone(), sheet.base.clone(), sheet.quote.clone()];
            first_day = day_of(play.began);
        } else if let Some(name) = &self.blind_series {
            names = vec![name.instrument.clone(), name.source.clone()];
        }
        // Longer names first: one may be a part of another.
        names.sort_by_key(|name| std::cmp::Reverse(name.len()));
        Some(Mask { names, first_day })
    }
}
