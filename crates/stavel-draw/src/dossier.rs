//! A dossier: what is known of a history, section by section, with pictures; as one HTML page, or as PDF pages.

use maud::{DOCTYPE, PreEscaped, html};
use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, DrawingBackend, Rectangle};
use plotters::style::{Color, RGBColor};
use stavel_core::Result;
use stavel_core::error::printable;

use crate::chart::Sheet;
use crate::grid::{CellGrid, GridSheet};
use crate::look::{Ground, PictureLook};
use crate::pdf::pages_to_pdf;
use crate::picture::{DrawResult, FINE, Picture, colour, words};
use crate::scene::Scene;
use crate::svg::to_svg;

/// What is known of a history.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Dossier {
    pub title: String,
    pub sections: Vec<DossierSection>,
}

/// A part of a dossier.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DossierSection {
    pub heading: String,
    pub lines: Vec<DossierLine>,
    pub pictures: Vec<DossierPicture>,
}

/// A line, and how it is to be taken.
#[derive(Debug, Clone, PartialEq)]
pub struct DossierLine {
    pub tone: LineTone,
    /// How deep it stands below the lines it belongs to: 0 for one that belongs to none.
    pub depth: usize,
    pub text: String,
}

/// How a line is to be taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LineTone {
    Plain,
    Good,
    /// Somebody should look.
    Doubt,
    Wrong,
}

/// A picture in a dossier.
#[derive(Debug, Clone, PartialEq)]
pub enum DossierPicture {
    Chart(Scene),
    CellGrid(CellGrid),
}

impl DossierLine {
    pub fn new(tone: LineTone, text: impl Into<String>) -> DossierLine {
        DossierLine { tone, depth: 0, text: text.into() }
    }

    /// The same line, deeper below the one it belongs to.
    #[must_use]
    pub fn below(self, depth: usize) -> DossierLine {
        DossierLine { depth, ..self }
    }
}

impl LineTone {
    fn mark(self) -> &'static str {
        match self {
            LineTone::Plain => "",
            LineTone::Good => "+",
            LineTone::Doubt => "!",
            LineTone::Wrong => "x",
        }
    }

    fn colour(self) -> RGBColor {
        let paper = Ground::Paper.palette();
        match self {
            LineTone::Plain => paper.words,
            LineTone::Good => paper.good,
            // That of doubtful marks is too light for letters.
            LineTone::Doubt => colour(0x8a6210),
            LineTone::Wrong => paper.wrong,
        }
    }
}

impl DossierPicture {
    /// The height it needs at the width of a page, in points.
    fn height(&self) -> u32 {
        match self {
            DossierPicture::Chart(_) => 400,
            DossierPicture::CellGrid(grid) => (150 + 22 * grid.rows.len() as u32).min(620),
        }
    }

    fn look(&self) -> PictureLook {
        PictureLook { ground: Ground::Paper, size: (INSIDE, self.height()) }
    }

    fn svg(&self) -> Result<String> {
        match self {
            DossierPicture::Chart(scene) => to_svg(&Sheet { scene, look: self.look() }),
            DossierPicture::CellGrid(grid) => to_svg(&GridSheet { grid, look: self.look() }),
        }
    }
}

/// The sheet in points, in the proportions of A4.
const SIZE: (u32, u32) = (840, 1188);
const EDGE: u32 = 44;
const INSIDE: u32 = SIZE.0 - 2 * EDGE;
/// Letters of the usual size in a line of a page.
const LETTERS: usize = 108;
const LINE: u32 = 15;
/// Letters by which a line stands further in, a step of its depth.
const STEP: usize = 3;
/// The width of a letter of the usual size, in points.
const LETTER: u32 = 7;

/// Something that stands on a page, with its upper edge.
enum OnPage<'d> {
    Heading(&'d str),
    /// A part of a line, and whether it is the first.
    Words(&'d DossierLine, String, bool),
    Picture(&'d DossierPicture),
    Space,
}

/// A page of a dossier.
struct DossierPage<'d> {
    things: Vec<(u32, OnPage<'d>)>,
    foot: String,
}

impl Picture for DossierPage<'_> {
    fn size(&self) -> (u32, u32) {
        SIZE
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        let paper = Ground::Paper.palette();
        area.fill(&paper.ground)?;
        let fine = |points: u32| points as i32 * FINE;
        for (y, thing) in &self.things {
            match thing {
                OnPage::Heading(text) => {
                    area.draw_text(&printable(text), &words(15, paper.words), (fine(EDGE), fine(*y)))?;
                    let rule = [(fine(EDGE), fine(y + 20)), (fine(EDGE + INSIDE), fine(y + 21))];
                    area.draw(&Rectangle::new(rule, paper.rule.filled()))?;
                }
                OnPage::Words(line, text, is_first) => {
                    let (tone, left) = (line.tone, EDGE + (STEP * line.depth) as u32 * LETTER);
                    if *is_first {
                        area.draw_text(tone.mark(), &words(11, tone.colour()), (fine(left), fine(*y)))?;
                    }
                    area.draw_text(&printable(text), &words(11, tone.colour()), (fine(left + 14), fine(*y)))?;
                }
                OnPage::Space => {}
                OnPage::Picture(picture) => {
                    let (_, below) = area.split_vertically(fine(*y));
                    let (part, _) = below.split_vertically(fine(picture.height()));
                    let (_, part) = part.split_horizontally(fine(EDGE));
                    let (part, _) = part.split_horizontally(fine(INSIDE));
                    match picture {
                        DossierPicture::Chart(scene) => Sheet { scene, look: picture.look() }.draw(&part)?,
                        DossierPicture::CellGrid(grid) => {
                            GridSheet { grid, look: picture.look() }.draw(&part)?;
                        }
                    }
                }
            }
        }
        area.draw_text(&printable(&self.foot), &words(9, paper.faint), (fine(EDGE), fine(SIZE.1 - 30)))
    }
}

/// A text in lines of at most so many letters, broken at blanks; a word that is longer than a line is broken within.
fn broken(text: &str, letters: usize) -> Vec<String> {
    let (mut out, mut line) = (Vec::new(), String::new());
    for word in text.split_whitespace() {
        let room = letters.saturating_sub(line.chars().count() + usize::from(!line.is_empty()));
        if word.chars().count() > room && !line.is_empty() {
            out.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        for letter in word.chars() {
            if line.chars().count() >= letters {
                out.push(std::mem::take(&mut line));
            }
            line.push(letter);
        }
    }
    out.push(line);
    out
}

impl Dossier {
    /// What stands on which page.
    fn pages(&self) -> Vec<DossierPage<'_>> {
        let bottom = SIZE.1 - 50;
        let mut place: Vec<(usize, u32, OnPage<'_>)> = Vec::new();
        let (mut page, mut y) = (0, EDGE);
        let mut add = |thing, height: u32, keep: u32| {
            if y + height.max(keep) > bottom && y > EDGE {
                (page, y) = (page + 1, EDGE);
            }
            place.push((page, y, thing));
            y += height;
        };
        add(OnPage::Heading(&self.title), 40, 40);
        for section in &self.sections {
            // A heading does not stand alone at the foot of a page.
            add(OnPage::Heading(&section.heading), 34, 90);
            for line in &section.lines {
                for (i, text) in broken(&line.text, LETTERS - STEP * line.depth).into_iter().enumerate() {
                    add(OnPage::Words(line, text, i == 0), LINE, LINE);
                }
            }
            for picture in &section.pictures {
                add(OnPage::Picture(picture), picture.height() + 10, picture.height() + 10);
            }
            add(OnPage::Space, LINE, LINE);
        }
        let count = page + 1;
        let mut pages: Vec<DossierPage<'_>> = (1..=count)
            .map(|number| DossierPage {
                things: Vec::new(),
                foot: format!("{}   {number} / {count}", self.title),
            })
            .collect();
        for (page, y, thing) in place {
            pages[page].things.push((y, thing));
        }
        pages
    }

    /// The dossier as PDF. The same dossier gives the same bytes.
    ///
    /// # Errors
    /// Where it cannot be drawn.
    pub fn to_pdf(&self) -> Result<Vec<u8>> {
        pages_to_pdf(&self.pages())
    }

    /// The dossier as one HTML page that needs nothing beside itself.
    ///
    /// # Errors
    /// Where a picture cannot be drawn.
    pub fn to_html(&self) -> Result<String> {
        let mut pictures = Vec::new();
        for section in &self.sections {
            pictures.push(section.pictures.iter().map(DossierPicture::svg).collect::<Result<Vec<_>>>()?);
        }
        let style = "body{font-family:monospace;max-width:62em;margin:2em auto;padding:0 1em;color:#1c2128;line-height:1.4}\
                     h1{font-size:1.3em}h2{font-size:1.05em;border-bottom:1px solid #d5d9e0;margin-top:2em}\
                     p{margin:.2em 0;padding-left:1.4em;text-indent:-1.4em}svg{max-width:100%;height:auto;display:block;margin:1em 0}\
                     .good{color:#4f7a28}.doubt{color:#8a6210}.wrong{color:#c0392b}";
        let class = |tone: LineTone| match tone {
            LineTone::Plain => "plain",
            LineTone::Good => "good",
            LineTone::Doubt => "doubt",
            LineTone::Wrong => "wrong",
        };
        let inset =
            |line: &DossierLine| (line.depth > 0).then(|| format!("margin-left:{}em", 2 * line.depth));
        let page = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    title { (printable(&self.title)) }
                    style { (PreEscaped(style)) }
                }
                body {
                    h1 { (printable(&self.title)) }
                    @for (section, pictures) in self.sections.iter().zip(&pictures) {
                        h2 { (printable(&section.heading)) }
                        @for line in &section.lines {
                            p class=(class(line.tone)) style=[inset(line)] { (line.tone.mark()) " " (printable(&line.text)) }
                        }
                        @for picture in pictures { (PreEscaped(picture)) }
                    }
                }
            }
        };
        Ok(page.into_string() + "\n")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grid::{GridCell, GridRow};

    fn dossier(lines: usize) -> Dossier {
        let row = GridRow { name: "mon".into(), told: String::new(), cells: vec![GridCell::Shade(1.0)] };
        let grid = CellGrid {
            title: "week".into(),
            told: String::new(),
            heads: Vec::new(),
            rows: vec![row],
            ends: None,
        };
        let line = |i| DossierLine::new(LineTone::Doubt, format!("line {i} <b>"));
        Dossier {
            title: "NOKSEK@joined:1m".into(),
            sections: vec![DossierSection {
                heading: "what was found".into(),
                lines: (0..lines).map(line).collect(),
                pictures: vec![DossierPicture::CellGrid(grid)],
            }],
        }
    }

    #[test]
    fn a_long_dossier_goes_over_pages_and_is_the_same_each_time() {
        let long = dossier(150);
        let pages = long.pages();
        assert_eq!(pages.len(), 3);
        assert!(pages.iter().flat_map(|page| &page.things).all(|(y, _)| *y < SIZE.1 - 40));
        let words = |page: &DossierPage<'_>| {
            page.things.iter().filter(|(_, t)| matches!(t, OnPage::Words(..))).count()
        };
        assert_eq!(pages.iter().map(words).sum::<usize>(), 150, "each line stands once");
        let pdf = long.to_pdf().unwrap();
        assert_eq!(pdf, long.to_pdf().unwrap());
        let text = String::from_utf8_lossy(&pdf);
        assert!(text.contains("/Count 3") && text.contains("(line 119 <b>) Tj") && text.contains("3 / 3"));
        let html = dossier(2).to_html().unwrap();
        assert!(html.contains("line 1 &lt;b&gt;") && html.contains("<svg") && !html.contains("<b>"));
        assert_eq!(html, dossier(2).to_html().unwrap());
    }

    #[test]
    fn words_are_broken_at_blanks_and_never_run_off_the_page() {
        assert_eq!(broken("a b", 9), ["a b"]);
        assert_eq!(broken("", 9), [""]);
        assert_eq!(broken("some words more", 10), ["some words", "more"]);
        assert_eq!(broken("a longer-than-that b", 8), ["a", "longer-t", "han-that", "b"]);
    }

    #[test]
    fn what_belongs_to_a_line_stands_further_in() {
        let mut deep = dossier(1);
        deep.sections[0].lines.push(DossierLine::new(LineTone::Plain, "its source").below(2));
        assert!(deep.to_html().unwrap().contains("style=\"margin-left:4em\"> its source"));
        let pdf = String::from_utf8_lossy(&deep.to_pdf().unwrap()).into_owned();
        let left = |words: &str| -> f32 {
            let at = pdf.find(&format!("({words}) Tj")).expect("the line stands on the page");
            let place =
                pdf[..at].lines().rev().find(|line| line.ends_with("Tm") || line.ends_with("Td")).unwrap();
            place.split(' ').rev().nth(2).unwrap().parse().unwrap()
        };
        assert_eq!(left("its source") - left("line 0 <b>"), (2 * STEP as u32 * LETTER) as f32);
    }
}
