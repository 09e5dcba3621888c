//! A step as the command that does the same, and the keys of recipes.

use clap::{Arg, ArgAction, Args, Command};
use serde_json::{Map, Value};

use super::compose::KEY_OPTIONS;
use super::{
    AlignStep, AutoStep, ChartStep, CheckStep, ComposeStep, DeliverStep, DossierStep, DrawStep, FetchStep,
    FramesStep, IntakeStep, RehearseStep, ShelfStep, SpliceStep, Step, UndoStep, UpdateStep,
};

impl Step {
    /// The command that does the same, as a shell would need it.
    pub fn command_line(&self) -> String {
        let settings = match serde_json::to_value(self) {
            Ok(Value::Object(settings)) => settings,
            _ => Map::new(),
        };
        let arguments = ACTS.iter().find(|(act, _)| *act == self.act());
        let command = arguments.map_or_else(Command::default, |(act, add)| add(Command::new(*act)));
        let (mut positional, mut options) = (Vec::new(), Vec::new());
        for arg in command.get_arguments() {
            let Some(value) = settings.get(arg.get_id().as_str()) else { continue };
            let values = typed(arg, value);
            match arg.get_long() {
                None => positional.extend(values),
                Some(_) if is_default(arg, &values) => {}
                Some(long) if matches!(arg.get_action(), ArgAction::SetTrue) => {
                    options.push(format!("--{long}"));
                }
                Some(long) => {
                    // A value that looks like an option is tied to its own.
                    let is_tied = |v: &str| v.starts_with('-') && !arg.is_allow_hyphen_values_set();
                    options.extend(values.into_iter().flat_map(|value| match is_tied(&value) {
                        true => vec![format!("--{long}={value}")],
                        false => vec![format!("--{long}"), value],
                    }));
                }
            }
        }
        // A step always takes the rows again, where the command may also only show them.
        if matches!(self, Step::Intake(IntakeStep { rejects: Some(_), .. })) {
            options.push("--retake".into());
        }
        let mut words = vec!["stavel".to_owned(), self.act().to_owned()];
        if positional.iter().any(|word| word.starts_with('-')) {
            words.extend(options.into_iter().chain(["--".into()]).chain(positional));
        } else {
            words.extend(positional.into_iter().chain(options));
        }
        let quoted = |word: &String| {
            shlex::try_quote(word).map_or_else(|_| word.clone(), std::borrow::Cow::into_owned)
        };
        words.iter().map(quoted).collect::<Vec<_>>().join(" ")
    }
}

/// Puts the arguments of a step on a command.
type AddArguments = fn(Command) -> Command;

/// The acts in the order of the work, each with what puts its arguments on a command.
const ACTS: [(&str, AddArguments); 17] = [
    ("auto", AutoStep::augment_args),
    ("intake", IntakeStep::augment_args),
    ("fetch", FetchStep::augment_args),
    ("update", UpdateStep::augment_args),
    ("check", CheckStep::augment_args),
    ("align", AlignStep::augment_args),
    ("splice", SpliceStep::augment_args),
    ("frames", FramesStep::augment_args),
    ("compose", ComposeStep::augment_args),
    ("deliver", DeliverStep::augment_args),
    ("chart", ChartStep::augment_args),
    ("draw", DrawStep::augment_args),
    ("dossier", DossierStep::augment_args),
    ("rehearse", RehearseStep::augment_args),
    ("undo", UndoStep::augment_args),
    ("redo", UndoStep::augment_args),
    ("shelf", ShelfStep::augment_args),
];

/// True where a recipe says it as a key of `set`.
fn is_in_set(arg: &Arg) -> bool {
    KEY_OPTIONS.iter().any(|(key, ..)| arg.get_id() == *key)
}

/// A value of a step as the words typed for it.
fn typed(arg: &Arg, value: &Value) -> Vec<String> {
    let words: Vec<String> = match value {
        Value::Array(values) => values.iter().map(word).collect(),
        Value::Object(values) => values.iter().map(|(key, value)| format!("{key}={}", word(value))).collect(),
        one => vec![word(one)],
    };
    match arg.get_value_delimiter() {
        Some(mark) if !words.is_empty() => vec![words.join(&mark.to_string())],
        _ => words,
    }
}

fn word(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// True where nothing has to be typed for the value.
fn is_default(arg: &Arg, values: &[String]) -> bool {
    arg.get_default_values().iter().map(|v| v.to_string_lossy()).eq(values.iter().map(String::as_str))
}

/// The table of the keys of recipes, as Markdown: each act's keys with what they mean.
pub fn recipe_keys() -> String {
    let mut out = String::from("| act | key | what it says |\n|---|---|---|\n");
    for (act, add) in ACTS {
        let command = add(Command::new(act));
        for arg in command.get_arguments().filter(|arg| !is_in_set(arg)) {
            let help = arg.get_help().map(ToString::to_string).unwrap_or_default();
            let words: Vec<String> =
                arg.get_possible_values().iter().map(|v| format!("`{}`", v.get_name())).collect();
            let words = if words.is_empty() || !arg.get_action().takes_values() {
                String::new()
            } else {
                format!(": {}", words.join(", "))
            };
            out += &format!("| `{act}` | `{}` | {help}{words} |\n", arg.get_id());
        }
    }
    out
}
