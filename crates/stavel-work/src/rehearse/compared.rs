//! Two runs held against each other.

use std::path::Path;

use serde_json::{Value, json};
use stavel_core::{Error, Result};

/// Figures of a run that are compared.
const FIGURES: [&str; 5] = ["trades", "won", "net", "expectancy", "drawdown"];

/// Holds a run against an earlier one, which was kept with `--json`, and tells where they part: the first fill that differs,
/// and the figures. True where they differ.
///
/// # Errors
/// Where the earlier run cannot be read.
pub fn compare(run: &mut Value, earlier: &Path, lines: &mut Vec<String>) -> Result<bool> {
    let text = std::fs::read_to_string(earlier)
        .map_err(|e| Error::input(format!("The run {} cannot be read: {e}.", earlier.display())))?;
    let other: Value = serde_json::from_str(&text)
        .map_err(|e| Error::input(format!("The run {} is no JSON: {e}.", earlier.display())))?;
    let fills = |of: &Value| of["fills"].as_array().cloned();
    let (Some(ours), Some(theirs)) = (fills(run), fills(&other)) else {
        return Err(Error::input(format!(
            "{} is no run of stavel rehearse --json: it has no fills.",
            earlier.display()
        )));
    };
    let key = |fill: &Value| ["time", "instrument", "side", "lots", "price"].map(|key| fill[key].clone());
    let parts = (0..ours.len().max(theirs.len())).find(|i| ours.get(*i).map(key) != theirs.get(*i).map(key));
    let words = |fill: Option<&Value>| match fill {
        None => "no fill".to_owned(),
        Some(fill) => {
            let text = |key: &str| fill[key].as_str().unwrap_or("not known").to_owned();
            format!("{} {} {} at {}", text("time"), text("side"), text("lots"), text("price"))
        }
    };
    let mut changes = Vec::new();
    for figure in FIGURES {
        let (new, old) = (&run["statistics"][figure], &other["statistics"][figure]);
        if new != old {
            let told = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            lines.push(format!("  {figure}: {} now, {} then", told(new), told(old)));
            changes.push(json!({"figure": figure, "now": new, "then": old}));
        }
    }
    let first = parts.map(|i| {
        lines.push(format!(
            "  ▲ the runs part at fill {}: now {}, then {}",
            i + 1,
            words(ours.get(i)),
            words(theirs.get(i))
        ));
        json!({"fill": i + 1, "now": ours.get(i), "then": theirs.get(i)})
    });
    if first.is_none() && changes.is_empty() {
        lines.push(format!("  the same as {}", earlier.display()));
    }
    let differs = first.is_some() || !changes.is_empty();
    run["against"] = json!({"path": earlier, "same": !differs, "first": first, "figures": changes});
    Ok(differs)
}
