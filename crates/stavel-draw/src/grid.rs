//! Grids of shaded cells: what is there on which day, what a week costs by hour, how weeks agree.

use plotters::coord::Shift;
use plotters::prelude::{DrawingArea, DrawingBackend, Rectangle};
use plotters::style::{Color, RGBColor};

use crate::look::{GroundColours, PictureLook};
use crate::picture::{DrawResult, FINE, Picture, words};

/// A grid of cells with names at its left and above it.
#[derive(Debug, Clone, PartialEq)]
pub struct CellGrid {
    pub title: String,
    /// What the cells say, in a line below the title.
    pub told: String,
    /// Names above columns, with the column they begin at.
    pub heads: Vec<(usize, String)>,
    pub rows: Vec<GridRow>,
    /// What the lightest and the darkest shade mean; none where cells only are there or not.
    pub ends: Option<(String, String)>,
}

/// A row of cells.
#[derive(Debug, Clone, PartialEq)]
pub struct GridRow {
    pub name: String,
    /// Words behind its cells.
    pub told: String,
    pub cells: Vec<GridCell>,
}

/// What a cell shows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum GridCell {
    /// Nothing is known, or nothing is due.
    Empty,
    /// A shade from 0 to 1.
    Shade(f64),
    /// Something is wrong.
    Wrong,
}

const LEFT: i32 = 16;
const NAMES: i32 = 150;
const TOLD: i32 = 250;
const TOP: i32 = 86;
const BOTTOM: i32 = 40;
/// The most that a row is high, and a column wide, in points.
const TALLEST: i32 = 26;
const WIDEST: i32 = 40;

/// A grid with its look.
pub struct GridSheet<'g> {
    pub grid: &'g CellGrid,
    pub look: PictureLook,
}

impl Picture for GridSheet<'_> {
    fn size(&self) -> (u32, u32) {
        self.look.size
    }

    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> DrawResult<B> {
        let (grid, palette) = (self.grid, self.look.ground.palette());
        let (width, height) = (self.look.size.0 as i32, self.look.size.1 as i32);
        area.fill(&palette.ground)?;
        area.draw_text(&grid.title, &words(15, palette.words), (LEFT * FINE, 14 * FINE))?;
        area.draw_text(&grid.told, &words(11, palette.faint), (LEFT * FINE, 38 * FINE))?;
        let columns = grid.rows.iter().map(|row| row.cells.len()).max().unwrap_or(0).max(1) as i32;
        let has_told = grid.rows.iter().any(|row| !row.told.is_empty());
        let right = if has_told { TOLD } else { LEFT };
        let inside = (width - LEFT - NAMES - right) * FINE;
        let wide = (f64::from(inside) / f64::from(columns)).min(f64::from(WIDEST * FINE));
        let tall = (f64::from((height - TOP - BOTTOM) * FINE) / grid.rows.len().max(1) as f64)
            .min(f64::from(TALLEST * FINE));
        let x_of = |column: usize| (LEFT + NAMES) * FINE + (column as f64 * wide).round() as i32;
        let y_of = |row: usize| TOP * FINE + (row as f64 * tall).round() as i32;
        let mut free = i32::MIN;
        for (column, name) in &grid.heads {
            if x_of(*column) >= free {
                area.draw_text(name, &words(11, palette.words), (x_of(*column), (TOP - 18) * FINE))?;
                free = x_of(*column) + (7 * name.chars().count() as i32 + 6) * FINE;
            }
        }
        let mut free = i32::MIN;
        for (at, row) in grid.rows.iter().enumerate() {
            let (top, bottom) = (y_of(at), y_of(at + 1));
            for (column, cell) in row.cells.iter().enumerate() {
                let Some(colour) = cell_colour(*cell, palette) else { continue };
                let gap = i32::from(wide > f64::from(4 * FINE)) * FINE / 2;
                let corners = [(x_of(column), top), (x_of(column + 1) - gap, bottom - FINE / 2)];
                area.draw(&Rectangle::new(corners, colour.filled()))?;
            }
            // Names that would stand on each other are left out.
            if top < free {
                continue;
            }
            let y = (top + bottom) / 2 - 5 * FINE;
            area.draw_text(&row.name, &words(11, palette.words), (LEFT * FINE, y))?;
            area.draw_text(&row.told, &words(11, palette.faint), (x_of(columns as usize) + 10 * FINE, y))?;
            free = top + 13 * FINE;
        }
        self.draw_ends(palette, area)
    }
}

impl GridSheet<'_> {
    /// The shades from the lightest to the darkest, with what they mean.
    fn draw_ends<B: DrawingBackend>(
        &self,
        palette: &GroundColours,
        area: &DrawingArea<B, Shift>,
    ) -> DrawResult<B> {
        let Some((least, most)) = &self.grid.ends else { return Ok(()) };
        let y = self.look.size.1 as i32 - 22;
        let mut x = LEFT + NAMES;
        area.draw_text(least, &words(11, palette.faint), (x * FINE, y * FINE))?;
        x += 7 * least.chars().count() as i32 + 8;
        for step in 0..10 {
            if let Some(colour) = cell_colour(GridCell::Shade(f64::from(step) / 9.0), palette) {
                let corners = [(x * FINE, y * FINE), ((x + 14) * FINE, (y + 11) * FINE)];
                area.draw(&Rectangle::new(corners, colour.filled()))?;
            }
            x += 14;
        }
        area.draw_text(most, &words(11, palette.faint), ((x + 8) * FINE, y * FINE))
    }
}

/// The colour of a cell; none for one that is empty.
fn cell_colour(cell: GridCell, palette: &GroundColours) -> Option<RGBColor> {
    let mix = |share: f64| {
        let (low, high) = (palette.shade, palette.lines[1]);
        // The lightest shade still differs from nothing.
        let share = 0.12 + 0.88 * share.clamp(0.0, 1.0);
        let part = |a: u8, b: u8| (f64::from(a) + (f64::from(b) - f64::from(a)) * share).round() as u8;
        RGBColor(part(low.0, high.0), part(low.1, high.1), part(low.2, high.2))
    };
    match cell {
        GridCell::Empty => None,
        GridCell::Shade(share) => Some(mix(share)),
        GridCell::Wrong => Some(palette.wrong),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::look::Ground;
    use crate::{to_pdf, to_svg};

    #[test]
    fn each_cell_that_says_something_is_a_rectangle_with_its_shade() {
        let row = |name: &str, cells: &[GridCell]| GridRow {
            name: name.into(),
            told: "x".into(),
            cells: cells.to_vec(),
        };
        let grid = CellGrid {
            title: "NOKSEK".into(),
            told: "rows by day".into(),
            heads: vec![(0, "mon".into()), (1, "tue".into())],
            rows: vec![
                row("first", &[GridCell::Shade(0.0), GridCell::Empty, GridCell::Shade(1.0)]),
                row("second", &[GridCell::Wrong, GridCell::Shade(0.5), GridCell::Empty]),
            ],
            ends: Some(("none".into(), "all".into())),
        };
        for ground in [Ground::Dark, Ground::Paper] {
            let sheet = GridSheet { grid: &grid, look: PictureLook { ground, size: (600, 300) } };
            let svg = to_svg(&sheet).unwrap();
            // The ground, four cells, ten shades of the legend.
            assert_eq!(svg.matches("<rect").count(), 1 + 4 + 10);
            assert!(svg.contains("second") && svg.contains("rows by day") && svg.contains("width=\"600\""));
            assert!(to_pdf(&sheet).unwrap().starts_with(b"%PDF"));
        }
        let palette = Ground::Paper.palette();
        assert_ne!(cell_colour(GridCell::Shade(0.0), palette), cell_colour(GridCell::Shade(1.0), palette));
        assert_eq!(cell_colour(GridCell::Empty, palette), None);
    }
}
