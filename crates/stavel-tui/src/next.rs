//! What a history still needs: for each series the first thing, then for the instrument as a whole.

use stavel_core::model::{Made, SeriesName};
use stavel_core::store::SeriesInfo;

use crate::data::{CheckedEditions, Snapshot};

/// The next thing to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NextStep {
    pub words: String,
    /// The lens in which it is done; none where files are to be taken in.
    pub lens: Option<&'static str>,
    /// The series it is done to, where it is done to one.
    pub series: Option<SeriesName>,
}

impl NextStep {
    fn of(words: impl Into<String>, lens: &'static str, series: &SeriesInfo) -> NextStep {
        NextStep { words: words.into(), lens: Some(lens), series: Some(series.name.clone()) }
    }

    fn take_in(words: impl Into<String>) -> NextStep {
        NextStep { words: words.into(), lens: None, series: None }
    }
}

/// What is next for an instrument; the series chosen comes first.
pub fn next_step(
    snapshot: &Snapshot,
    instrument: &str,
    chosen: Option<&SeriesName>,
    checked: &CheckedEditions,
) -> NextStep {
    let roots: Vec<&SeriesInfo> = snapshot.roots_of(instrument).collect();
    if roots.is_empty() {
        return match snapshot.feeds.first() {
            Some(feed) => NextStep {
                words: format!("see what {feed} has (f), and fetch it (n)"),
                lens: Some("shelf"),
                series: None,
            },
            None => NextStep::take_in("take files in"),
        };
    }
    if let Some(info) = snapshot.not_fetched(instrument) {
        let words = format!("fetch what {} has since (f, then n)", info.name.source);
        return NextStep::of(words, "shelf", info);
    }
    let has_reference = roots.iter().any(|s| !s.is_afloat());
    let of_series = worked_on(&roots, chosen).into_iter().find_map(|s| for_series(s, has_reference, checked));
    of_series.unwrap_or_else(|| for_instrument(snapshot, instrument, &roots))
}

/// True for rows of a file, anchored and mended or not.
fn is_source(info: &SeriesInfo) -> bool {
    !matches!(
        info.edition.provenance.made,
        Made::Splice(_) | Made::Frames(_) | Made::Compose(_) | Made::Formula(_) | Made::Chain(_)
    )
}

/// The series that a history is made of: the chosen one, then the shortest bars of each source.
fn worked_on<'a>(roots: &[&'a SeriesInfo], chosen: Option<&SeriesName>) -> Vec<&'a SeriesInfo> {
    let mut out: Vec<&SeriesInfo> =
        roots.iter().filter(|s| is_source(s) && chosen == Some(&s.name)).copied().collect();
    let mut bars: Vec<&SeriesInfo> =
        roots.iter().filter(|s| is_source(s) && s.name.frame.is_bars()).copied().collect();
    bars.sort_by_key(|s| s.name.frame.length());
    for info in bars {
        if !out.iter().any(|o| o.name.source == info.name.source && o.name.frame.is_bars()) {
            out.push(info);
        }
    }
    out
}

/// The first thing that a series still needs.
fn for_series(info: &SeriesInfo, has_reference: bool, checked: &CheckedEditions) -> Option<NextStep> {
    let short = info.name.short();
    let known = checked.get(&info.edition.id);
    if info.is_afloat() && !has_reference {
        return Some(NextStep::of(format!("{short} is afloat: say its clock"), "align", info));
    }
    if known.is_none() {
        return Some(NextStep::of(format!("check {short}"), "check", info));
    }
    if info.is_afloat() {
        return Some(NextStep::of(format!("{short} is afloat: align it"), "align", info));
    }
    let has_safe_mends = known.is_some_and(|k| k.has_safe_mends);
    has_safe_mends.then(|| NextStep::of(format!("mend what is safe in {short}"), "check", info))
}

/// What is next once every series is fit: join, bring up to date, build frames, deliver.
fn for_instrument(snapshot: &Snapshot, instrument: &str, roots: &[&SeriesInfo]) -> NextStep {
    let joins = || roots.iter().filter(|s| s.edition.provenance.made.is_joined()).copied();
    if let Some((join, why)) = joins().find_map(|s| Some((s, snapshot.stale(s)?))) {
        let short = join.name.short();
        return NextStep::of(format!("{why}: join {short} again"), "splice", join);
    }
    let bars = || roots.iter().filter(|s| is_source(s) && s.name.frame.is_bars()).copied();
    let two = bars().find(|s| bars().any(|o| o.name.source != s.name.source && o.name.frame == s.name.frame));
    if let (None, Some(one)) = (joins().next(), two) {
        return NextStep::of("join the sources", "splice", one);
    }
    let base = joins().next().or_else(|| bars().min_by_key(|s| s.name.frame.length())).unwrap_or(roots[0]);
    let frames = || snapshot.series_of(instrument).filter(|s| s.edition.provenance.made.is_framed());
    if let Some(stale) = frames().find(|s| snapshot.stale(s).is_some()) {
        let short = stale.name.short();
        return NextStep::of(format!("{short} is stale: build frames again"), "frames", base);
    }
    if frames().any(|s| s.name.source == base.name.source) {
        return NextStep::of("deliver, or rehearse (9)", "deliver", base);
    }
    NextStep::of(format!("build frames of {}", base.name.short()), "frames", base)
}
