//! The tables of a page as lines of cells.

use std::io::{Read, Write};

use html5gum::{IoReader, Token, Tokenizer};

use super::Member;
use super::lines::Lines;
use crate::{Error, Result};

/// The tables of a page, small ones for its looks included.
pub fn count_tables(member: &Member) -> Result<usize> {
    let mut tables = 0;
    walk(member.unpacked()?, |step| {
        tables += usize::from(matches!(step, TagStep::Table));
        Ok(true)
    })?;
    if tables == 0 {
        return Err(Error::input(format!(
            "{} is a page without a table; there is nothing to take in.",
            member.place()
        )));
    }
    Ok(tables)
}

/// Writes one table (counted from 0, in the order they begin) as lines.
pub fn to_lines(page: impl Read, wanted: usize, out: &mut dyn Write) -> Result<()> {
    let mut lines = Lines::new(out);
    let mut begun = 0;
    walk(page, |step| {
        let here = begun == wanted + 1;
        match step {
            TagStep::Table => begun += 1,
            TagStep::Cell(text) if here => lines.cell(text.trim().as_bytes()),
            TagStep::RowEnd if here => return lines.end(),
            _ => {}
        }
        Ok(begun <= wanted + 1)
    })
}

enum TagStep<'a> {
    Table,
    Cell(&'a str),
    RowEnd,
}

/// Goes through the tables of a page until `seen` says that it is enough.
fn walk(page: impl Read, mut seen: impl FnMut(TagStep<'_>) -> Result<bool>) -> Result<()> {
    let mut cell: Option<String> = None;
    for token in Tokenizer::new(IoReader::new(page)) {
        let token = token.map_err(|e| Error::input(format!("the page cannot be read: {e}")))?;
        let go_on = match token {
            Token::StartTag(tag) => match &**tag.name {
                b"table" => seen(TagStep::Table)?,
                b"td" | b"th" => {
                    let before = cell.replace(String::new());
                    before.map_or(Ok(true), |text| seen(TagStep::Cell(&text)))?
                }
                // The ends of cells and rows may be left away.
                b"tr" => end_row(&mut cell, &mut seen)?,
                _ => true,
            },
            Token::EndTag(tag) => match &**tag.name {
                b"td" | b"th" => cell.take().map_or(Ok(true), |text| seen(TagStep::Cell(&text)))?,
                b"tr" | b"table" => end_row(&mut cell, &mut seen)?,
                _ => true,
            },
            Token::String(text) => {
                if let Some(cell) = &mut cell {
                    cell.push_str(&String::from_utf8_lossy(&text));
                }
                true
            }
            _ => true,
        };
        if !go_on {
            break;
        }
    }
    Ok(())
}

fn end_row(cell: &mut Option<String>, seen: &mut impl FnMut(TagStep<'_>) -> Result<bool>) -> Result<bool> {
    if let Some(text) = cell.take() {
        seen(TagStep::Cell(&text))?;
    }
    seen(TagStep::RowEnd)
}
