//! Words of a formula, each with its column.

use crate::{Error, Result};

/// A word, with the column of its first character, from 1.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Token {
    pub kind: TokenKind,
    pub column: usize,
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum TokenKind {
    Number(f64),
    /// A date as `2024-01-31`.
    Date(String),
    /// A name, with what follows it after `@` and `.`; quotes are taken off.
    Name {
        text: String,
        is_quoted: bool,
    },
    /// What follows a quoted name after a dot.
    Dot(String),
    Sign(char),
    End,
}

/// What a mistake in a formula is told as: the column, what stands there, what was expected.
pub(super) fn mistake(column: usize, what: &str) -> Error {
    Error::arguments(format!("The formula, column {column}: {what}."))
}

/// # Errors
/// Where a character means nothing in a formula.
pub(super) fn tokens(text: &str) -> Result<Vec<Token>> {
    let chars: Vec<char> = text.chars().collect();
    let mut out = Vec::new();
    let mut at = 0;
    while at < chars.len() {
        let (c, column) = (chars[at], at + 1);
        let (kind, next) = match c {
            c if c.is_whitespace() => {
                at += 1;
                continue;
            }
            '0'..='9' => number(&chars, at)?,
            '.' if chars.get(at + 1).is_some_and(char::is_ascii_digit) => number(&chars, at)?,
            '.' => {
                let end = end_of(&chars, at + 1, |c| c.is_ascii_alphabetic());
                (TokenKind::Dot(chars[at + 1..end].iter().collect()), end)
            }
            '\'' | '"' => {
                let end = end_of(&chars, at + 1, |other| other != c);
                if end == chars.len() {
                    return Err(mistake(column, "a name begins with a quote and has none at its end"));
                }
                (TokenKind::Name { text: chars[at + 1..end].iter().collect(), is_quoted: true }, end + 1)
            }
            c if c.is_ascii_alphabetic() => {
                let end =
                    end_of(&chars, at, |c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '@' | ':'));
                (TokenKind::Name { text: chars[at..end].iter().collect(), is_quoted: false }, end)
            }
            '+' | '-' | '*' | '/' | '^' | '(' | ')' | ',' => (TokenKind::Sign(c), at + 1),
            c if c.is_control() => return Err(mistake(column, "a character that cannot be shown")),
            c => {
                return Err(mistake(
                    column,
                    &format!("'{c}' means nothing in a formula; use + - * / ^ ( ) , numbers and names"),
                ));
            }
        };
        out.push(Token { kind, column });
        at = next;
    }
    out.push(Token { kind: TokenKind::End, column: chars.len() + 1 });
    Ok(out)
}

fn end_of(chars: &[char], from: usize, is_in: impl Fn(char) -> bool) -> usize {
    chars[from.min(chars.len())..].iter().position(|c| !is_in(*c)).map_or(chars.len(), |n| from + n)
}

/// A number, or a date where four digits and two pairs of two are joined by dashes.
fn number(chars: &[char], at: usize) -> Result<(TokenKind, usize)> {
    let shape: String =
        chars[at..].iter().take(10).map(|c| if c.is_ascii_digit() { '0' } else { *c }).collect();
    if shape == "0000-00-00" && !chars.get(at + 10).is_some_and(char::is_ascii_digit) {
        return Ok((TokenKind::Date(chars[at..at + 10].iter().collect()), at + 10));
    }
    let mut end = end_of(chars, at, |c| c.is_ascii_digit() || c == '.');
    let has_power = chars.get(end).is_some_and(|c| matches!(c, 'e' | 'E'));
    let signed = usize::from(chars.get(end + 1).is_some_and(|c| matches!(c, '+' | '-')));
    if has_power && chars.get(end + 1 + signed).is_some_and(char::is_ascii_digit) {
        end = end_of(chars, end + 1 + signed, |c| c.is_ascii_digit());
    }
    let text: String = chars[at..end].iter().collect();
    if let Some(c) = chars.get(end).filter(|c| c.is_alphanumeric() || **c == '_') {
        let advice = "put the name of an instrument that begins with a digit in quotes";
        return Err(mistake(end + 1, &format!("'{c}' follows the number {text} at once; {advice}")));
    }
    match text.parse::<f64>() {
        Ok(value) if value.is_finite() => Ok((TokenKind::Number(value), end)),
        _ => Err(mistake(at + 1, &format!("{text} is not a number"))),
    }
}
