//! Reading a step from a command line, as answers to questions give it.

use clap::{Parser, Subcommand};
use stavel_core::{Error, Result};

use super::{
    AlignStep, AutoStep, CheckStep, ComposeStep, DeliverStep, FetchStep, FramesStep, IntakeStep, SpliceStep,
    Step, UpdateStep,
};

#[derive(Parser)]
#[command(name = "stavel", disable_help_flag = true, disable_help_subcommand = true)]
struct TypedLine {
    #[command(subcommand)]
    step: TypedStep,
}

/// The step knows of an option of its command that is no setting of a step.
#[derive(clap::Args)]
struct TypedSplice {
    #[command(flatten)]
    step: SpliceStep,
    #[arg(long, hide = true)]
    refresh: bool,
}

#[derive(Subcommand)]
enum TypedStep {
    Auto(AutoStep),
    Intake(IntakeStep),
    Fetch(FetchStep),
    Update(UpdateStep),
    Check(CheckStep),
    Align(AlignStep),
    Splice(TypedSplice),
    Frames(FramesStep),
    Compose(Box<ComposeStep>),
    Deliver(Box<DeliverStep>),
}

impl Step {
    /// The step that a command line stands for: `stavel align NOKSEK@tarn:1m --clock UTC+2 --anchor`.
    ///
    /// # Errors
    /// If it is not a command of a step, or its arguments make no sense.
    pub fn from_command_line(line: &str) -> Result<Step> {
        let words = shlex::split(line)
            .ok_or_else(|| Error::arguments(format!("A quotation mark is not closed in: {line}")))?;
        let typed = TypedLine::try_parse_from(words).map_err(|why| {
            let text = why.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            Error::arguments(format!("{}: {line}", first.trim_end_matches('.')))
        })?;
        Ok(match typed.step {
            TypedStep::Auto(step) => Step::Auto(step),
            TypedStep::Intake(step) => Step::Intake(step),
            TypedStep::Fetch(step) => Step::Fetch(step),
            TypedStep::Update(step) => Step::Update(step),
            TypedStep::Check(step) => Step::Check(step),
            TypedStep::Align(step) => Step::Align(step),
            TypedStep::Splice(typed) if typed.refresh => {
                return Err(Error::arguments(format!("--refresh cannot be used here: {line}")));
            }
            TypedStep::Splice(typed) => Step::Splice(typed.step),
            TypedStep::Frames(step) => Step::Frames(step),
            TypedStep::Compose(step) => Step::Compose(step),
            TypedStep::Deliver(step) => Step::Deliver(step),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_line_gives_the_step_that_prints_it() {
        for line in [
            "stavel align NOKSEK@tarn:1m --clock America/New_York+7h --anchor",
            "stavel splice NOKSEK@tarn:1m NOKSEK@quill:1m --into joined --level shift",
            "stavel compose NOKSEK --set clock=UTC+2",
            "stavel check NOKSEK@quill:1m --mend safe",
        ] {
            let step = Step::from_command_line(line).unwrap();
            assert_eq!(Step::from_command_line(&step.command_line()).unwrap(), step, "{line}");
        }
    }

    #[test]
    fn a_wrong_line_is_an_error_with_the_line() {
        for line in ["stavel align", "stavel nothing", "stavel align 'NOKSEK", ""] {
            let why = Step::from_command_line(line).unwrap_err().to_string();
            assert!(why.contains(line) && !why.contains('\n'), "{line}: {why}");
        }
    }
}
