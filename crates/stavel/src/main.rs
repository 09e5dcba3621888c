//! The command line: what was typed becomes a step, the core does it, and it is told to a person or
//! printed as JSON.

mod args;
mod bench;
mod commands;
mod costs;
mod demo;
mod extras;
mod feeds;
mod frame_sets;
mod handed_on;
mod layouts;
mod output;
mod progress;
mod record;
mod served;
mod shelf;
#[cfg(test)]
mod words_tests;

use std::process::ExitCode;

use clap::Parser;

use args::Args;

/// Intake, frames and delivery take and give back large columns all the time: this allocator keeps their
/// pages instead of asking the system for new, cleared ones.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Something is done but wants a person.
const WANTS_PERSON: u8 = 3;

fn main() -> ExitCode {
    let args = match Args::try_parse() {
        Ok(args) => args,
        Err(err) => {
            // Help and version are no errors; clap prints them and mistakes in its own words.
            if err.use_stderr() && std::env::args_os().any(|a| a == "--json") {
                let text = err.to_string();
                let told = text.lines().take_while(|l| !l.starts_with("Usage")).map(str::trim);
                let sentence = told.filter(|l| !l.is_empty()).collect::<Vec<_>>().join(" ");
                print_error(sentence.trim_start_matches("error: "), 2, None);
            }
            let _ = err.print();
            return if err.use_stderr() { ExitCode::from(2) } else { ExitCode::SUCCESS };
        }
    };
    match commands::run(&args) {
        Ok(output::Ending::Done) => ExitCode::SUCCESS,
        Ok(output::Ending::WantsPerson) => ExitCode::from(WANTS_PERSON),
        Err(err) => {
            let sentence = format!("{err:#}");
            let own = err.downcast_ref::<stavel_core::Error>();
            if args.json {
                print_error(&sentence, code_of(&err), own.and_then(stavel_core::Error::advice));
            }
            let sentence = own.map_or(sentence.clone(), |own| stavel_work::with_advice(sentence, own));
            eprintln!("stavel: {}", stavel_core::error::printable(&sentence));
            ExitCode::from(code_of(&err))
        }
    }
}

/// An error as the one document that `--json` prints: the sentence, the exit code, and what a person would type.
fn print_error(sentence: &str, exit: u8, advice: Option<&stavel_core::Advice>) {
    let advice = advice.map(stavel_work::advice_in_words);
    let document = serde_json::json!({ "error": { "sentence": sentence, "exit": exit, "advice": advice } });
    // Where standard output is gone, standard error still tells.
    let _ = output::print_json(&document);
}

/// 2 for arguments that make no sense, 3 for a question the data leave open, else 1.
fn code_of(err: &anyhow::Error) -> u8 {
    match err.downcast_ref::<stavel_core::Error>() {
        Some(e) if e.is_arguments() => 2,
        Some(e) if e.is_undecided() => WANTS_PERSON,
        _ => 1,
    }
}
