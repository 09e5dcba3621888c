//! What Stavel finds in the demo market against the file that tells the truth, over several markets.

use stavel_core::check::{Finding, FindingKind, Mend, check_series};
use stavel_core::job::Job;
use stavel_core::model::{SeriesName, Span, time};
use stavel_core::store::Shelf;
use stavel_feed::{DemoSpans, write_demo};
use stavel_work::{Recipe, Step, apply};

#[test]
fn every_planted_defect_and_the_clock_are_found_in_other_markets_too() {
    for seed in [1, 22, 333] {
        let dir = tempfile::tempdir().unwrap();
        let raw = dir.path().join("raw");
        let truth = write_demo(&raw, &DemoSpans::small(), seed).unwrap();
        let recipe = Recipe::read(&raw.join("noksek.toml")).unwrap();
        let mut shelf = Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
        let job = Job::unwatched();
        let mut until_mend = recipe.step.iter().take_while(|s| !matches!(s, Step::Check(_)));
        assert!(until_mend.by_ref().all(|step| apply(&mut shelf, step, &job).is_ok()));
        let series: SeriesName = "NOKSEK@quill:1m".parse().unwrap();
        let (_, report) = check_series(&shelf, &series, Span::ALL, &job).unwrap();
        let planted: Vec<(FindingKind, Span)> = truth
            .defects
            .iter()
            .map(|d| {
                (
                    d.kind.parse().unwrap(),
                    Span::new(time::parse(&d.from).unwrap(), time::parse(&d.to).unwrap()),
                )
            })
            .collect();
        for (kind, span) in &planted {
            let hits =
                report.findings.iter().filter(|f| f.kind == *kind && f.span.overlap(span).is_some()).count();
            assert_eq!(hits, 1, "seed {seed}: {} {}", kind.word(), time::wall(span.from));
        }
        let found = report.findings.iter().filter(|f| f.kind != FindingKind::ClosedMarket).count();
        assert_eq!(found, planted.len(), "seed {seed}: {:?}", report.findings);
        let align = recipe.step.iter().find(|s| matches!(s, Step::Align(_))).unwrap();
        let found = apply(&mut shelf, align, &job).unwrap();
        assert_eq!(found.json["clock"], truth.broker_clock.as_str(), "seed {seed}");
        // After mending and anchoring nothing is left but what cannot be mended.
        let mend = recipe.step.iter().find(|s| matches!(s, Step::Check(_))).unwrap();
        let told = apply(&mut shelf, mend, &job).unwrap();
        let (_, left) = check_series(&shelf, &series, Span::ALL, &job).unwrap();
        let Step::Check(mend) = mend else { unreachable!() };
        let is_mended = |f: &Finding| mend.mend.contains(&Mend::Kind(f.kind));
        assert!(!left.findings.iter().any(is_mended), "seed {seed}: {:?}", left.findings);
        let found = told.json["findings"].as_array().unwrap().len();
        assert_eq!(found, left.findings.len(), "the report is that of the mended series");
    }
}
