//! Bounds hold every value that prices inside their spans can give, and are reached.

use super::{FormulaBlock, Interval, LegColumns, RowEvaluator, Undefined, parse};

fn evaluator(text: &str) -> RowEvaluator {
    RowEvaluator::new(&parse(text, &|_| None).unwrap_or_else(|e| panic!("{text}: {e}")))
}

/// With the spans of A, B and so on.
fn bounds(text: &str, spans: &[(f64, f64)]) -> Result<(f64, f64), Undefined> {
    let legs = parse(text, &|_| None)
        .unwrap()
        .legs()
        .iter()
        .map(|leg| leg.instrument.as_bytes()[0])
        .collect::<Vec<_>>();
    let evaluator = evaluator(text);
    let span = |leg: usize| spans[usize::from(legs[leg] - b'A')];
    let cells: Vec<Interval> =
        evaluator.slots().iter().map(|(leg, _)| Interval::new(span(*leg).0, span(*leg).1)).collect();
    evaluator.value(&cells).map(|v| (v.low, v.high))
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() < 1e-9 * a.abs().max(b.abs()).max(1.0)
}

#[test]
fn each_leg_is_taken_at_the_side_that_matters() {
    let legs = [(2.0, 2.5), (4.0, 5.0)];
    for (text, low, high) in [
        ("A - B", -3.0, -1.5),
        ("A / B", 0.4, 0.625),
        ("A * B", 8.0, 12.5),
        ("abs(A - B)", 1.5, 3.0),
        ("A * A - 0 * B", 4.0, 6.25),
        ("A - A + 0 * B", 0.0, 0.0),
        ("A / (A + B)", 2.0 / 7.0, 2.5 / 6.5),
        ("(A - B) / (A + B)", -3.0 / 7.0, -1.5 / 6.5),
        ("A^2 - B^2", 4.0 - 25.0, 6.25 - 16.0),
        ("A^B", 16.0, 2.5f64.powf(5.0)),
        ("2^(A - B)", 0.125, 2f64.powf(-1.5)),
        ("A^0.5 - B", 2f64.sqrt() - 5.0, 2.5f64.sqrt() - 4.0),
        ("A^-1 + B", 4.4, 5.5),
        ("sqrt(B) * A", 4.0, 2.5 * 5f64.sqrt()),
        ("ln(B) + exp(A)", 4f64.ln() + 2f64.exp(), 5f64.ln() + 2.5f64.exp()),
        ("min(A, B) + max(A, B)", 6.0, 7.5),
        ("max(A, 2.2) + 0 * B", 2.2, 2.5),
        ("round(A, 0) + 0 * B", 2.0, 3.0),
        ("A * (3 - A) + 0 * B", 1.25, 2.0),
        ("(A - 2.25)^2 + 0 * B", 0.0, 0.0625),
        ("(A - 2.25) * (A - 2.25) + 0 * B", 0.0, 0.0625),
        ("abs(A - 2.25) * A + 0 * B", 0.0, 0.625),
        // Taken part by part the divisor would hold 0.
        ("1 / (B - 0.9 * B - 0.1) + 0 * A", 2.5, 1.0 / 0.3),
        ("sqrt(B - 0.9 * B - 0.3) + 0 * A", 0.1f64.sqrt(), 0.2f64.sqrt()),
    ] {
        let (l, h) = bounds(text, &legs).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        assert!((l - low).abs() < 1e-5 && (h - high).abs() < 1e-5, "{text}: {l} {h}, not {low} {high}");
    }
}

#[test]
fn what_has_no_value_says_why() {
    use Undefined::{DividedByZero, NoNumber};
    for (text, why) in [
        ("1 / (A - B)", DividedByZero),
        ("1 / (A - A)", DividedByZero),
        ("(A - B)^-2", DividedByZero),
        ("sqrt(A - B)", NoNumber),
        ("ln(A - 2)", NoNumber),
        ("exp(A * 1000)", NoNumber),
        ("(A - B)^0.5", NoNumber),
    ] {
        assert_eq!(bounds(text, &[(1.0, 2.0), (1.5, 1.8)]), Err(why), "{text}");
    }
}

/// A formula at random, with legs A to C; deeper ones are longer.
fn at_random(rng: &mut fastrand::Rng, depth: u32) -> String {
    if depth == 0 || rng.f64() < 0.15 {
        return match rng.u32(0..8) {
            0 => format!("{}", rng.u32(1..40) as f64 / 8.0),
            1 => "A.mid".into(),
            2 | 3 => "A".into(),
            4 | 5 => "B".into(),
            _ => "C".into(),
        };
    }
    let a = at_random(rng, depth - 1);
    let mut b = || at_random(rng, depth - 1);
    match fastrand_of(&a) % 15 {
        0 | 1 => format!("({a} + {})", b()),
        2 | 3 => format!("({a} - {})", b()),
        4 | 5 => format!("({a} * {})", b()),
        6 | 7 => format!("({a} / {})", b()),
        8 => format!("abs({a})"),
        9 => format!("min({a}, {})", b()),
        10 => format!("max({a}, {})", b()),
        11 => format!("sqrt({a})"),
        12 => format!("ln({a})"),
        13 => format!("({a})^{}", [2, 3, -1][a.len() % 3]),
        _ => format!("round({a}, 2)"),
    }
}

/// A number that hangs on a text.
fn fastrand_of(text: &str) -> u32 {
    blake3::hash(text.as_bytes()).as_bytes()[0].into()
}

/// The value of a formula where every price is one number, worked out over its text, without any of the tree above.
fn plainly(text: &str, prices: &dyn Fn(&str) -> f64) -> f64 {
    struct Reader<'a> {
        rest: &'a str,
        prices: &'a dyn Fn(&str) -> f64,
    }
    impl Reader<'_> {
        fn skip(&mut self, what: &str) -> bool {
            let there = self.rest.trim_start().strip_prefix(what);
            self.rest = there.unwrap_or(self.rest);
            there.is_some()
        }
        fn sum(&mut self) -> f64 {
            let mut value = self.product();
            loop {
                if self.skip("+ ") {
                    value += self.product();
                } else if self.skip("- ") {
                    value -= self.product();
                } else {
                    return value;
                }
            }
        }
        fn product(&mut self) -> f64 {
            let mut value = self.power();
            loop {
                if self.skip("*") {
                    value *= self.power();
                } else if self.skip("/") {
                    value /= self.power();
                } else {
                    return value;
                }
            }
        }
        fn power(&mut self) -> f64 {
            let base = self.atom();
            if !self.skip("^") {
                return base;
            }
            let sign = if self.skip("-") { -1.0 } else { 1.0 };
            base.powf(sign * self.atom())
        }
        fn atom(&mut self) -> f64 {
            if self.skip("(") {
                let value = self.sum();
                assert!(self.skip(")"));
                return value;
            }
            let text = self.rest.trim_start();
            let end = text.find(|c: char| !c.is_ascii_alphanumeric() && c != '.').unwrap_or(text.len());
            let (word, rest) = text.split_at(end);
            self.rest = rest;
            if let Ok(number) = word.parse() {
                return number;
            }
            if !self.skip("(") {
                return (self.prices)(word);
            }
            let mut all = vec![self.sum()];
            while self.skip(",") {
                all.push(self.sum());
            }
            assert!(self.skip(")"));
            match word {
                "abs" => all[0].abs(),
                "min" => all[0].min(all[1]),
                "max" => all[0].max(all[1]),
                "sqrt" => all[0].sqrt(),
                "ln" => all[0].ln(),
                "round" => (all[0] * 100.0).round() / 100.0,
                other => panic!("{other}"),
            }
        }
    }
    Reader { rest: text, prices }.sum()
}

#[test]
fn no_price_inside_the_spans_leads_outside_the_bounds_and_some_lead_to_them() {
    let mut rng = fastrand::Rng::with_seed(42);
    let (mut looked_at, mut repeated) = (0, 0);
    for round in 0..1500 {
        let text = at_random(&mut rng, 1 + round % 4);
        if !text.contains(['A', 'B', 'C']) {
            continue;
        }
        let spans: Vec<(f64, f64)> = (0..3)
            .map(|_| {
                let low = rng.f64() * 4.0 + if rng.bool() { 0.1 } else { -2.0 };
                (low, low + rng.f64() * [0.001, 0.3, 1.0][rng.usize(0..3)])
            })
            .collect();
        let evaluator = evaluator(&text);
        let leg_of = |name: &str| (name.as_bytes()[0] - b'A') as usize;
        let legs =
            parse(&text, &|_| None).unwrap().legs().iter().map(|l| leg_of(&l.instrument)).collect::<Vec<_>>();
        let slots: Vec<(usize, bool)> = evaluator
            .slots()
            .iter()
            .map(|(leg, price)| (legs[*leg], *price == super::LegPrice::Mid))
            .collect();
        let cell = |(leg, is_mid): (usize, bool)| {
            let (low, high) = spans[leg];
            if is_mid { Interval::of((low + high) / 2.0) } else { Interval::new(low, high) }
        };
        let cells: Vec<Interval> = slots.iter().map(|slot| cell(*slot)).collect();
        let Ok(bounds) = evaluator.value(&cells) else { continue };
        looked_at += 1;
        repeated +=
            i32::from(["A", "B", "C"].iter().any(|l| text.replace("A.mid", "").matches(l).count() > 1));
        let value = |at: &[f64; 3]| {
            plainly(&text, &|name| match name {
                "A.mid" => (spans[0].0 + spans[0].1) / 2.0,
                name => at[leg_of(name)],
            })
        };
        let slack = 1e-9 * bounds.low.abs().max(bounds.high.abs()).max(1.0);
        let (mut lowest, mut highest) = (f64::INFINITY, f64::NEG_INFINITY);
        let mut look = |at: &[f64; 3]| {
            let value = value(at);
            assert!(
                value >= bounds.low - slack && value <= bounds.high + slack,
                "{text} at {at:?} of {spans:?}: {value} outside {bounds:?}"
            );
            (lowest, highest) = (lowest.min(value), highest.max(value));
        };
        for corner in 0..27usize {
            let part = |leg: usize| [0.0, 0.5, 1.0][corner / 3usize.pow(leg as u32) % 3];
            look(&std::array::from_fn(|leg| spans[leg].0 + (spans[leg].1 - spans[leg].0) * part(leg)));
        }
        for _ in 0..1500 {
            let part =
                |r: &mut fastrand::Rng| if r.u32(0..3) == 0 { f64::from(r.u32(0..2)) } else { r.f64() };
            look(&std::array::from_fn(|leg| spans[leg].0 + (spans[leg].1 - spans[leg].0) * part(&mut rng)));
        }
        // Between its jumps a rounded part tells nothing of where the extremes lie.
        if text.contains("round") && !text.starts_with("round") {
            continue;
        }
        let off = 0.06 * bounds.width() + slack + 1e-4;
        assert!(
            lowest <= bounds.low + off && highest >= bounds.high - off,
            "{text} of {spans:?}: {bounds:?} is told, {lowest} to {highest} is reached"
        );
    }
    assert!(looked_at > 700 && repeated > 250, "{looked_at} {repeated}");
}

#[test]
fn many_rows_at_once_are_as_each_by_itself() {
    let mut rng = fastrand::Rng::with_seed(7);
    for round in 0..400 {
        let text = at_random(&mut rng, 1 + round % 4);
        if !text.contains(['A', 'B', 'C']) {
            continue;
        }
        let evaluator = evaluator(&text);
        let rows = 40;
        let prices: Vec<LegColumns> = evaluator
            .slots()
            .iter()
            .map(|(_, price)| {
                let low: Vec<f64> =
                    (0..rows).map(|_| 0.5 + rng.f64() * if round % 2 == 0 { 0.01 } else { 3.0 }).collect();
                let high = match price {
                    super::LegPrice::Both => low.iter().map(|l| l + rng.f64() * 0.01).collect(),
                    _ => Vec::new(),
                };
                LegColumns { low, high }
            })
            .collect();
        let block = FormulaBlock::of(&evaluator, &prices, rows);
        for row in 0..rows {
            let cell =
                |p: &LegColumns| Interval::new(p.low[row], p.high.get(row).copied().unwrap_or(p.low[row]));
            let cells: Vec<Interval> = prices.iter().map(cell).collect();
            let undefined = block.undefined.iter().find(|(at, _)| *at == row).map(|(_, why)| *why);
            match evaluator.value(&cells) {
                Ok(value) => {
                    assert_eq!(undefined, None, "{text}");
                    assert!(
                        near(value.low, block.low[row]) && near(value.high, block.high[row]),
                        "{text} {value:?}"
                    );
                }
                Err(_) => assert!(undefined.is_some(), "{text} {cells:?}"),
            }
        }
    }
}

#[test]
fn windows_look_back_on_rows_that_have_passed() {
    let mut of = evaluator("mean(A, 3) + 0 * lag(A, 2)");
    let mut stdev = evaluator("stdev(A.mid, 3)");
    let rows = [(1.0, 1.2), (2.0, 2.2), (6.0, 6.4), (4.0, 4.4)];
    let mut told = Vec::new();
    for (low, high) in rows {
        let (span, middle) = ([Interval::new(low, high)], [Interval::of((low + high) / 2.0)]);
        told.push((of.value(&span).map(|v| (v.low, v.high)), stdev.value(&middle).map(|v| v.low)));
        of.pass(&span);
        stdev.pass(&middle);
    }
    assert_eq!(told[1], (Err(Undefined::WindowNotFull), Err(Undefined::WindowNotFull)));
    let (mean, deviation) = (told[2].0.unwrap(), told[2].1.unwrap());
    assert!(near(mean.0, 3.0) && near(mean.1, 9.8 / 3.0), "{mean:?}");
    // Middles 1.1, 2.1 and 6.2: their mean is 47/15, the squares around it add up to 14.6066…, half of that is under the root.
    assert!(near(deviation, 7.303_333_333_333_333f64.sqrt()), "{deviation}");
    assert!(near(told[3].0.unwrap().0, 4.0));
}

#[test]
fn a_deviation_of_spans_holds_that_of_any_prices_inside_them() {
    let mut rng = fastrand::Rng::with_seed(9);
    for _ in 0..200 {
        let spans: Vec<Interval> = (0..5)
            .map(|_| {
                let low = rng.f64();
                Interval::new(low, low + rng.f64() * 0.2)
            })
            .collect();
        let mut whole = evaluator("stdev(A, 5)");
        spans[..4].iter().for_each(|span| whole.pass(&[*span]));
        let bounds = whole.value(&[spans[4]]).unwrap();
        for _ in 0..50 {
            let values: Vec<f64> = spans.iter().map(|s| s.low + s.width() * rng.f64()).collect();
            let mean = values.iter().sum::<f64>() / 5.0;
            let value = (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / 4.0).sqrt();
            assert!(bounds.holds(value), "{value} {bounds:?}");
        }
    }
}
