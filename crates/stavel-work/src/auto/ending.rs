//! What is left of the way when it ends: the recipe, and what is told.

use std::path::Path;

use serde_json::json;
use stavel_core::Result;

use super::summary::summary_of;
use super::{JOINED, Way, add_new};
use crate::page::write_file;
use crate::question::Question;
use crate::recipe::Recipe;
use crate::report::StepReport;
use crate::step::Step;

impl Way<'_, '_> {
    /// Leaves the steps as a recipe in the folder; a file of another kind that lies there is not written over.
    /// `earlier` are the steps that were done before this command.
    pub(super) fn leave_recipe(&mut self, earlier: Vec<Step>) -> Result<()> {
        let Some(out) = &self.wish.out else { return Ok(()) };
        let mut step: Vec<Step> = earlier.into_iter().filter(|s| self.is_part_of_it(s)).collect();
        // A step that was done before stays where it was: what came after it may rest on it.
        add_new(&mut step, &self.steps);
        if step.is_empty() {
            return Ok(());
        }
        let mut recipe = Recipe { title: Some("two sources, one history".into()), step };
        for step in &mut recipe.step {
            step.with_absolute_paths()?;
        }
        let text = recipe.to_text()?;
        let names =
            std::iter::once("recipe.toml".to_owned()).chain((2..100).map(|n| format!("recipe-{n}.toml")));
        for path in names.map(|name| out.join(name)) {
            match std::fs::read_to_string(&path) {
                Ok(there) if there == text => {}
                // One that this command left earlier on the way is brought up to date.
                Ok(there) if !is_earlier(&there, &recipe) => continue,
                _ => write_file(&path, text.as_bytes())?,
            }
            self.lines.push(format!(
                "{} holds the {} steps; do them again with: stavel run {}",
                path.display(),
                recipe.step.len(),
                path.display()
            ));
            self.recipe = Some(path.clone());
            self.files.push(path);
            return Ok(());
        }
        Ok(())
    }

    /// True for a step, done earlier, that is part of the way from these files to the joined history.
    fn is_part_of_it(&self, step: &Step) -> bool {
        let ours = [&self.wish.source, &self.wish.broker_source];
        match step {
            Step::Intake(s) => ours.contains(&&s.source),
            Step::Check(_) | Step::Align(_) => step.reads().iter().any(|s| ours.contains(&&s.source)),
            Step::Splice(s) => s.into == JOINED,
            Step::Frames(s) => s.series.exact().is_some_and(|series| series.source == JOINED),
            Step::Compose(s) => s.from.is_none(),
            _ => false,
        }
    }

    /// The command that goes on from where this one stopped.
    pub(super) fn again(&self) -> String {
        Step::Auto(self.wish.clone()).command_line()
    }

    /// The report: a summary of what was joined, the warnings and the files; every step is in its details.
    pub(super) fn report(self, question: Option<&Question>) -> Result<StepReport> {
        let again = self.again();
        let mut lines = Vec::new();
        for joined in &self.joined {
            lines.extend(summary_of(self.shelf, joined)?);
        }
        lines.extend(self.rows_by_source.iter().cloned());
        let warnings = self.lines.iter().filter(|line| line.contains(['▲', '○']));
        for line in warnings.map(|line| line.trim().to_owned()) {
            // The same assumption stands in the report of every step that rests on it.
            if !line.contains("assumed:") && !lines.contains(&format!("  {line}")) {
                lines.push(format!("  {line}"));
            }
        }
        lines.extend(self.files.iter().map(|file| format!("  file      {}", file.display())));
        let mut details = self.lines;
        let mut json = json!({
            "steps": self.json, "joined": self.joined.first(), "clock": self.clocks.first(),
            "recipe": self.recipe, "files": self.delivered,
        });
        if self.joined.len() > 1 {
            json["all_joined"] = json!(self.joined);
        }
        if let Some(q) = question {
            json["question"] = json!(q.asks);
            json["answers"] =
                q.answers.iter().map(|a| json!({"command": a.command, "evidence": a.evidence})).collect();
            json["done"] = json["steps"].clone();
            json["then"] = json!(again);
            lines.push(format!("▲ {}", q.asks));
            for answer in &q.answers {
                lines.push(format!("  {}", answer.command));
                lines.push(format!("      {}", answer.evidence));
            }
            lines.push(format!("  then go on with: {again}"));
        }
        let first = match question {
            Some(q) => format!("{} steps done, then a question: {}", self.steps.len(), q.asks),
            None => format!("{} steps done, {} files written", self.steps.len(), self.files.len()),
        };
        details.insert(0, first.clone());
        lines.insert(0, first);
        let wants_person = self.wants_person || question.is_some();
        Ok(StepReport {
            wants_person,
            details,
            changed: self.changed,
            files: self.files,
            assumed: self.assumed,
            question: question.cloned().map(Box::new),
            ..StepReport::new(json, lines)
        })
    }
}

/// True where a file holds a recipe whose steps are the first steps of another.
fn is_earlier(text: &str, recipe: &Recipe) -> bool {
    Recipe::from_text(text, Path::new("recipe.toml"))
        .is_ok_and(|there| there.title == recipe.title && recipe.step.starts_with(&there.step))
}
