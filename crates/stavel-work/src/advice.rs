//! What a person can do about an error, in the words of the command line.

use stavel_core::{Advice, Error, Setting};

/// What a person would type.
pub fn advice_in_words(advice: &Advice) -> String {
    match advice {
        Advice::Say(setting) => format!("--{}", option(*setting)),
        Advice::SayEither(one, other) => format!("--{} or --{}", option(*one), option(*other)),
        Advice::Choose(setting, values) => {
            let said: Vec<String> = values.iter().map(|v| format!("--{} {v}", option(*setting))).collect();
            said.join(" or ")
        }
        Advice::Align(series) => format!("stavel align {series} --to an anchored series --anchor"),
        Advice::SetValue { instrument, key } => format!("stavel compose {instrument} --set {key}=…"),
        Advice::ListEditions(series) => format!("stavel shelf {series} --editions"),
        Advice::BuildFrames => "stavel frames".into(),
        Advice::RebuildCatalog => "stavel shelf --rebuild".into(),
        Advice::VerifyShelf => "stavel shelf --verify".into(),
        Advice::OtherShelf => "--shelf".into(),
    }
}

fn option(setting: Setting) -> &'static str {
    match setting {
        Setting::Clock => "clock",
        Setting::Dates => "dates",
        Setting::Frame => "frame",
        Setting::Instrument => "instrument",
        Setting::Layered => "layered",
        Setting::Layout => "layout",
        Setting::Level => "level",
        Setting::Names => "names",
        Setting::Stamp => "stamp",
    }
}

/// The sentence of an error, with what a person would type behind it.
pub fn error_in_words(err: &Error) -> String {
    with_advice(err.to_string(), err)
}

/// A sentence about an error, with what a person would type behind it.
pub fn with_advice(sentence: String, err: &Error) -> String {
    match err.advice() {
        Some(advice) => format!("{} ({}).", sentence.trim_end_matches('.'), advice_in_words(advice)),
        None => sentence,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_done_stands_behind_the_sentence() {
        let dates = vec!["day-first".into(), "month-first".into()];
        for (advice, words) in [
            (Advice::Say(Setting::Frame), "No frame is said (--frame)."),
            (
                Advice::SayEither(Setting::Instrument, Setting::Names),
                "No frame is said (--instrument or --names).",
            ),
            (
                Advice::Choose(Setting::Dates, dates),
                "No frame is said (--dates day-first or --dates month-first).",
            ),
            (
                Advice::SetValue { instrument: "NOKSEK".into(), key: "spread" },
                "No frame is said (stavel compose NOKSEK --set spread=…).",
            ),
        ] {
            assert_eq!(error_in_words(&Error::input("No frame is said.").advise(advice)), words);
        }
        assert_eq!(error_in_words(&Error::input("No frame is said.")), "No frame is said.");
    }
}
