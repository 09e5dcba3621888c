//! Recipes of earlier versions.

use toml::{Table, Value};

use super::Step;

/// A step as an earlier version wrote it; `None` where that makes no step either.
pub fn step_with_older_keys(text: &str) -> Option<Step> {
    with_new_keys(text.parse().ok()?).try_into().ok()
}

/// The steps of a recipe as an earlier version wrote it; `None` where one of them makes no step either.
pub fn steps_with_older_keys(text: &str) -> Option<Vec<Step>> {
    let recipe: Table = text.parse().ok()?;
    let steps = recipe.get("step")?.as_array()?.iter();
    steps.map(|step| with_new_keys(step.as_table()?.clone()).try_into().ok()).collect()
}

/// A step with the keys of today, where an earlier version wrote it with others.
fn with_new_keys(mut step: Table) -> Table {
    if let Some(prefers_new) = step.remove("prefer_new") {
        let word = if prefers_new == Value::Boolean(true) { "new" } else { "old" };
        step.insert("prefer".into(), word.into());
    }
    match step.remove("do").as_ref().and_then(Value::as_str) {
        Some("rename") => {
            let to = step.remove("to");
            step.extend(to.map(|to| ("rename".to_owned(), to)));
        }
        Some(act @ ("remove" | "tidy")) => drop(step.insert(act.into(), true.into())),
        Some(other) => drop(step.insert("do".into(), other.into())),
        None => {}
    }
    step
}
