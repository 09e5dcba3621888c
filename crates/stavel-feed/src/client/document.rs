//! Places in documents of JSON, and the names in them.

use serde_json::Value;
use stavel_core::model::series::check_name;

/// The name of an instrument on a shelf: without the marks that stand between its parts, as in NOK/SEK.
pub fn name_on_shelf(symbol: &str) -> String {
    let name: String = symbol.chars().filter(|c| c.is_ascii_alphanumeric() || "._+-".contains(*c)).collect();
    let name = name.trim_start_matches(['.', '-', '_', '+']).to_owned();
    if check_name("instrument", &name).is_ok() { name } else { String::new() }
}

/// A place in a document, by keys with points between them; the document itself for nothing.
pub fn at<'v>(value: &'v Value, path: &str) -> Option<&'v Value> {
    path.split('.').filter(|key| !key.is_empty()).try_fold(value, |value, key| value.get(key))
}

/// A text or number as it is written; none for anything else, and for an empty text.
pub fn scalar(value: &Value) -> Option<String> {
    match value {
        Value::String(text) if !text.trim().is_empty() => Some(text.trim().to_owned()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(is) => Some(is.to_string()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_services_become_names_of_the_shelf() {
        for (symbol, name) in [
            ("NOKSEK", "NOKSEK"),
            ("NOK/SEK", "NOKSEK"),
            ("BLY-2024-05", "BLY-2024-05"),
            ("../../NOK SEK\u{1b}[2J", "NOKSEK2J"),
            ("#", ""),
            ("", ""),
        ] {
            assert_eq!(name_on_shelf(symbol), name, "{symbol:?}");
        }
    }

    #[test]
    fn places_in_a_document_are_keys_with_points() {
        let document = serde_json::json!({ "data": { "list": [1] }, "n": 2 });
        assert_eq!(at(&document, "data.list"), Some(&serde_json::json!([1])));
        assert_eq!(at(&document, ""), Some(&document));
        assert_eq!(at(&document, "data.rows"), None);
    }
}
