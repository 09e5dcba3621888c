//! A cost sheet as lines, as a document, and as tables.

use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;
use serde_json::{Value, json};
use stavel_core::deliver::{SideTable, TableCell, without_formula};
use stavel_core::measures::SpreadQuantiles;
use stavel_core::model::time::{rfc3339, wall};
use stavel_core::{Error, Result};

use super::money::{NightCost, RoundTurn, in_points};
use super::{CostSheet, MeasuredSpreads};
use crate::report::StepReport;
use crate::sheet::SheetValue;

const WEEKDAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// The cost sheet in lines for people and as a document.
///
/// # Errors
/// Where the document cannot be made.
pub fn costs_report(sheet: &CostSheet) -> Result<StepReport> {
    let mut lines = vec![first_line(sheet)];
    if let Some(spreads) = &sheet.spreads {
        lines.extend(spread_lines(sheet, spreads));
    }
    lines.extend(value_lines(sheet));
    lines.extend(money_lines(sheet));
    lines.extend(sheet.doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    Ok(StepReport { wants_person: !sheet.doubts.is_empty(), ..StepReport::new(document(sheet), lines) })
}

fn first_line(sheet: &CostSheet) -> String {
    let name = &sheet.instrument.name;
    match (&sheet.spreads, sheet.instrument.sheet.spread) {
        (_, Some(fixed)) => format!("{name}: a fixed spread of {fixed} points, as its sheet says"),
        (Some(spreads), None) => {
            let median = spreads.profile.all.map_or(0, |all| all.median);
            format!(
                "{name}: usual spread {} points, measured on {}",
                points_of(sheet, spreads, median),
                spreads.series
            )
        }
        (None, None) => format!("{name}: no spread is known"),
    }
}

/// Points of the measured series as those of the instrument.
fn points_of(sheet: &CostSheet, spreads: &MeasuredSpreads, points: i64) -> Decimal {
    in_points(points, spreads.decimals, sheet.instrument.sheet.decimals).unwrap_or_default()
}

fn spread_lines(sheet: &CostSheet, spreads: &MeasuredSpreads) -> Vec<String> {
    let profile = &spreads.profile;
    let words = |stats: SpreadQuantiles| {
        let [median, p90, p99] = [stats.median, stats.p90, stats.p99].map(|p| points_of(sheet, spreads, p));
        format!("median {median}   9 of 10 up to {p90}   99 of 100 up to {p99}   ({} rows)", stats.rows)
    };
    let mut out = Vec::new();
    let mut put = |what: &str, stats: Option<SpreadQuantiles>| {
        out.extend(stats.map(|stats| format!("  {what:<16} {}", words(stats))));
    };
    put("spread", profile.all);
    put("at the roll", profile.at_roll);
    put("around events", profile.around_events);
    out.extend(sheet.quoted.iter().map(|quoted| {
        format!(
            "  {:<16} {} points, as {} says since {}",
            "quoted",
            quoted.points,
            quoted.source,
            &wall(quoted.since)[..10]
        )
    }));
    if let Some(proposed) = profile.proposed() {
        out.push(format!(
            "  for tests        {} points where only one is asked for",
            points_of(sheet, spreads, proposed)
        ));
    }
    let left = [
        (profile.unknown, "rows do not know their spread"),
        (profile.estimated, "rows have an estimated or made-up spread and were not counted"),
        (profile.crossed, "rows have their ask below their bid and were not counted"),
    ];
    out.extend(left.into_iter().filter(|(n, _)| *n > 0).map(|(n, words)| format!("  {n} {words}")));
    if let Some((first, last)) = profile.ends {
        let clock = if spreads.is_afloat { "as written".to_owned() } else { spreads.clock.to_string() };
        out.push(format!(
            "  from {} to {} UTC; hours and months on the clock {clock}",
            wall(first),
            wall(last)
        ));
    }
    if let Some(other) = spreads.others.first() {
        out.push(format!(
            "  {} more series know spreads: stavel costs {other} measures that one",
            spreads.others.len()
        ));
    }
    out
}

fn value_lines(sheet: &CostSheet) -> Vec<String> {
    let line = |v: &SheetValue| {
        let since = v.since.map(|t| format!(" since {}", &wall(t)[..10])).unwrap_or_default();
        let (mark, told) = match v.is_known() {
            true => (v.standing.mark(), v.standing.to_string()),
            false => (" ", "not known".to_owned()),
        };
        let value = if v.value.is_empty() { "–" } else { &v.value };
        let by = v.by.as_ref().map(|by| format!(", as {by} says")).unwrap_or_default();
        format!("  {mark} {:<14} {value:<24} {told}{by}{since}", v.key)
    };
    sheet.values.iter().filter(|v| v.applies).map(line).collect()
}

fn money_lines(sheet: &CostSheet) -> Vec<String> {
    let money = &sheet.money;
    let currency = &money.currency;
    let mut out = Vec::new();
    if let Some(cross) = &money.cross {
        let legs: Vec<String> =
            cross.legs.iter().map(|l| format!("{} {} of {}", l.series, l.price, wall(l.time))).collect();
        out.push(format!(
            "  one {} is {} {currency}: {}",
            sheet.instrument.sheet.quote,
            cross.rate.round_dp(6).normalize(),
            legs.join(", ")
        ));
    }
    let amounts = [
        ("a point of a lot", money.point),
        ("a tick of a lot", money.tick),
        ("commission a side", money.commission),
        ("margin of a lot", money.margin),
    ];
    for (what, amount) in amounts {
        out.extend(amount.map(|amount| format!("  {what:<20} {amount} {currency}")));
    }
    for (what, night) in [("a night long", money.nights[0]), ("a night short", money.nights[1])] {
        out.extend(night.map(|night| {
            let points = night.points.map(|p| format!(" ({p} points)")).unwrap_or_default();
            format!("  {what:<20} {} {currency}{points}", night.money)
        }));
    }
    let without = if money.commission.is_none() { ", without commission" } else { "" };
    for (what, turn) in [("a round turn", money.usual), ("cautiously", money.cautious)] {
        out.extend(turn.map(|turn| format!("  {what:<20} {}{without}", turn_in_words(&turn, currency))));
    }
    let hours: Vec<(usize, RoundTurn)> =
        money.by_hour.iter().enumerate().filter_map(|(h, turn)| Some((h, (*turn)?))).collect();
    if !hours.is_empty() && sheet.instrument.sheet.spread.is_none() {
        out.push("  a round turn by hour of the day".into());
        out.extend(
            hours.iter().map(|(h, turn)| format!("    {h:02}:00   {}", turn_in_words(turn, currency))),
        );
    }
    out
}

fn turn_in_words(turn: &RoundTurn, currency: &str) -> String {
    let money = turn.money.map(|m| format!("   {m} {currency} a lot")).unwrap_or_default();
    format!("{} points{money}", turn.points)
}

fn number(value: Decimal) -> Value {
    value.to_f64().and_then(serde_json::Number::from_f64).map_or(Value::Null, |n| {
        match value.fract().is_zero() {
            true => value.to_i64().map_or(Value::Number(n), Value::from),
            false => Value::Number(n),
        }
    })
}

fn turn_json(turn: Option<RoundTurn>) -> Value {
    turn.map_or(Value::Null, |t| json!({"points": number(t.points), "money": t.money.map(number)}))
}

fn night_json(night: Option<NightCost>) -> Value {
    night.map_or(Value::Null, |n| json!({"money": number(n.money), "points": n.points.map(number)}))
}

fn document(sheet: &CostSheet) -> Value {
    let (money, spec) = (&sheet.money, &sheet.instrument.sheet);
    let values: Vec<Value> = sheet.values.iter().map(value_json).collect();
    let of_key = |key: &str| sheet.values.iter().find(|v| v.key == key).map_or(Value::Null, value_json);
    let with_money = |key: &str, amount: Option<Decimal>| {
        let mut value = of_key(key);
        value["money"] = json!(amount.map(number));
        value
    };
    json!({
        "instrument": sheet.instrument.name,
        "currency": Some(&money.currency).filter(|c| !c.is_empty()),
        "rate": money.cross.as_ref().map(|c| c.rate.round_dp(10).normalize().to_string()),
        "spread": spread_json(sheet),
        "point": number(Decimal::new(1, u32::from(spec.decimals))),
        "point_value": money.point.map(number),
        "tick_size": with_money("tick_size", money.tick),
        "commission": with_money("commission", money.commission),
        "night": {
            "long": night_json(money.nights[0]), "short": night_json(money.nights[1]),
            "triple": Some(of_key("swap_triple")).filter(|v| !v.is_null()),
        },
        "margin": with_money("margin", money.margin),
        "round_turn": {
            "lots": 1, "with_commission": money.commission.is_some(),
            "usual": turn_json(money.usual), "cautious": turn_json(money.cautious),
            "by_hour": money.by_hour.iter().map(|t| turn_json(*t)).collect::<Vec<_>>(),
        },
        "values": values,
        "doubts": sheet.doubts,
    })
}

fn value_json(v: &SheetValue) -> Value {
    json!({
        "key": v.key, "value": Some(&v.value).filter(|v| !v.is_empty()),
        "standing": Some(v.standing.to_string()).filter(|_| v.is_known()), "since": v.since.map(rfc3339),
    })
}

fn spread_json(sheet: &CostSheet) -> Value {
    let fixed = sheet.instrument.sheet.spread;
    let quoted: Vec<Value> = sheet
        .quoted
        .iter()
        .map(|q| json!({"source": q.source, "since": rfc3339(q.since), "points": q.points}))
        .collect();
    let Some(spreads) = &sheet.spreads else {
        return json!({
            "fixed": fixed, "quoted": quoted, "median": null, "p90": null, "p99": null, "by_hour": vec![Value::Null; 168], "proposed": fixed,
        });
    };
    let points = |p: i64| number(points_of(sheet, spreads, p));
    let stats = |s: Option<SpreadQuantiles>| {
        s.map_or(Value::Null, |s| {
            json!({"median": points(s.median), "p90": points(s.p90), "p99": points(s.p99), "rows": s.rows})
        })
    };
    let profile = &spreads.profile;
    let of_hours = |which: fn(SpreadQuantiles) -> i64| -> Vec<Value> {
        profile.by_hour.iter().map(|s| s.map_or(Value::Null, |s| points(which(s)))).collect()
    };
    let all = |which: fn(SpreadQuantiles) -> i64| profile.all.map_or(Value::Null, |s| points(which(s)));
    let months: Vec<Value> = profile
        .by_month
        .iter()
        .map(|((year, month), s)| {
            let mut told = stats(Some(*s));
            told["month"] = json!(format!("{year:04}-{month:02}"));
            told
        })
        .collect();
    json!({
        "quoted": quoted,
        "fixed": fixed, "series": spreads.series, "others": spreads.others, "clock": if spreads.is_afloat { "afloat".into() } else { spreads.clock.to_string() },
        "median": all(|s| s.median), "p90": all(|s| s.p90), "p99": all(|s| s.p99), "max": profile.widest.map(points),
        "rows": profile.all.map(|s| s.rows), "rows_unknown": profile.unknown, "rows_estimated": profile.estimated,
        "rows_crossed": profile.crossed, "first": profile.ends.map(|e| rfc3339(e.0)), "last": profile.ends.map(|e| rfc3339(e.1)),
        "by_hour": of_hours(|s| s.median), "by_hour_p90": of_hours(|s| s.p90), "by_hour_p99": of_hours(|s| s.p99),
        "by_month": months, "at_roll": stats(profile.at_roll), "around_events": stats(profile.around_events),
        "proposed": fixed.map(Value::from).or_else(|| profile.proposed().map(points)), "standing": "found",
    })
}

/// The cost sheet as tables: its values, its spreads by hour of the week and by month, a round turn by hour.
pub fn costs_tables(sheet: &CostSheet) -> Vec<SideTable> {
    let cell =
        |value: Option<Decimal>| value.and_then(|v| v.to_f64()).map_or(TableCell::Empty, TableCell::Number);
    let table = |name: &str, columns: &[&str], rows| SideTable {
        name: name.into(),
        columns: columns.iter().map(|c| (*c).to_owned()).collect(),
        rows,
    };
    let mut values: Vec<Vec<TableCell>> = sheet
        .values
        .iter()
        .filter(|v| v.applies)
        .map(|v| {
            let standing = if v.is_known() { v.standing.to_string() } else { "not known".into() };
            let since = v.since.map_or(TableCell::Empty, |t| wall(t)[..10].to_owned().into());
            vec![v.key.into(), v.value.clone().into(), TableCell::Empty, standing.into(), since]
        })
        .collect();
    let (money, currency) = (&sheet.money, &sheet.money.currency);
    let amounts = [
        ("a point of a lot", money.point),
        ("a tick of a lot", money.tick),
        ("commission a side", money.commission),
        ("a night long", money.nights[0].map(|n| n.money)),
        ("a night short", money.nights[1].map(|n| n.money)),
        ("margin of a lot", money.margin),
        ("a round turn, usually", money.usual.and_then(|t| t.money)),
        ("a round turn, cautiously", money.cautious.and_then(|t| t.money)),
    ];
    values.extend(amounts.into_iter().filter(|(_, amount)| amount.is_some()).map(|(what, amount)| {
        vec![what.into(), cell(amount), currency.clone().into(), TableCell::Empty, TableCell::Empty]
    }));
    let mut out = vec![table("sheet and costs", &["what", "value", "unit", "standing", "since"], values)];
    if let Some(spreads) = &sheet.spreads {
        let points = |p: i64| cell(Some(points_of(sheet, spreads, p)));
        let row = |name: String, s: SpreadQuantiles| {
            vec![
                name.into(),
                points(s.median),
                points(s.p90),
                points(s.p99),
                TableCell::Number(s.rows as f64),
            ]
        };
        let profile = &spreads.profile;
        let mut rows = Vec::new();
        let all = [
            ("all", profile.all),
            ("at the roll", profile.at_roll),
            ("around events", profile.around_events),
        ];
        rows.extend(all.into_iter().filter_map(|(name, s)| Some(row(name.to_owned(), s?))));
        let hour = |h: usize| format!("{} {:02}:00", WEEKDAYS[h / 24], h % 24);
        rows.extend(profile.by_hour.iter().enumerate().filter_map(|(h, s)| Some(row(hour(h), (*s)?))));
        rows.extend(profile.by_month.iter().map(|((y, m), s)| row(format!("{y:04}-{m:02}"), *s)));
        out.push(table("spread in points", &["when", "median", "p90", "p99", "rows"], rows));
    }
    let turn = |(h, t): (usize, &Option<RoundTurn>)| {
        t.map(|t| {
            vec![format!("{h:02}:00").into(), cell(Some(t.points)), cell(t.money), currency.clone().into()]
        })
    };
    let turns: Vec<Vec<TableCell>> = money.by_hour.iter().enumerate().filter_map(turn).collect();
    if !turns.is_empty() {
        out.push(table("round turn by hour", &["hour", "points", "money a lot", "currency"], turns));
    }
    out
}

/// The tables as CSV (RFC 4180), one below the other: `table,what,value,...`.
///
/// # Errors
/// Where the text cannot be made.
pub fn costs_csv(sheet: &CostSheet) -> Result<String> {
    let failed = |e: csv::Error| Error::storage(format!("The costs cannot be written as CSV: {e}."));
    let mut out = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    for table in costs_tables(sheet) {
        let head = std::iter::once("table").chain(table.columns.iter().map(String::as_str));
        out.write_record(head).map_err(failed)?;
        for row in &table.rows {
            let cells = row.iter().map(|cell| match cell {
                TableCell::Text(text) => without_formula(text).into_owned(),
                TableCell::Number(number) => number.to_string(),
                TableCell::Time(time) => wall(*time),
                TableCell::Empty => String::new(),
            });
            out.write_record(std::iter::once(table.name.clone()).chain(cells)).map_err(failed)?;
        }
    }
    let bytes = out.into_inner().map_err(|e| failed(e.into_error().into()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
