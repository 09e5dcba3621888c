//! Lines of fine dots: eight to a cell, two across and four down.

use ratatui::style::Style;

use crate::canvas::Canvas;

/// The bit of each dot of a cell, by row and column, as Unicode numbers them.
const BITS: [[u32; 2]; 4] = [[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]];
/// The first braille character, which has no dot.
const EMPTY: u32 = 0x2800;

/// A line that is drawn from point to point; points are in dots, and may lie outside.
pub struct DotLine {
    width: u16,
    height: u16,
    cells: Vec<u32>,
    last: Option<(i64, i64)>,
    /// Of each so many dots along the line one is drawn.
    every: i64,
    drawn: i64,
}

impl DotLine {
    /// A line in so many columns and rows of cells.
    pub fn new(width: u16, height: u16, every: i64) -> DotLine {
        let cells = vec![0; width as usize * height as usize];
        DotLine { width, height, cells, last: None, every, drawn: 0 }
    }

    /// Goes on to a point, or leaves the line broken.
    pub fn to(&mut self, point: Option<(i64, i64)>) {
        if let Some((x, y)) = point {
            let (from_x, from_y) = self.last.unwrap_or((x, y));
            let rows = i64::from(self.height) * 4;
            // What leaves the pane is not followed to where it is.
            let near = |y: i64| y.clamp(-rows, 2 * rows);
            let steps = (x - from_x).abs().max((near(y) - near(from_y)).abs()).max(1);
            for i in 1..=steps {
                let at = |a: i64, b: i64| a + ((b - a) * i + steps / 2).div_euclid(steps);
                self.dot(at(from_x, x), at(near(from_y), near(y)));
            }
        }
        self.last = point;
    }

    fn dot(&mut self, x: i64, y: i64) {
        self.drawn += 1;
        let (columns, rows) = (i64::from(self.width) * 2, i64::from(self.height) * 4);
        if self.drawn % self.every == 0 && (0..columns).contains(&x) && (0..rows).contains(&y) {
            let cell = (y / 4 * i64::from(self.width) + x / 2) as usize;
            self.cells[cell] |= BITS[(y % 4) as usize][(x % 2) as usize];
        }
    }

    /// Puts the line on what is drawn; a full cell below it shows through, an edge of one stays.
    pub fn draw(&self, style: Style, canvas: &mut Canvas<'_>) {
        for (i, bits) in self.cells.iter().enumerate().filter(|(_, bits)| **bits != 0) {
            let (x, y) = (i as u16 % self.width, i as u16 / self.width);
            if x >= canvas.width() || y >= canvas.height() {
                continue;
            }
            let cell = &mut canvas.buffer[(canvas.area.x + x, canvas.area.y + y)];
            let under = match cell.symbol() {
                "█" => style.bg(cell.fg),
                "▀" | "▄" => continue,
                _ => style,
            };
            // Of another line in the same cell the dots stay.
            let there = cell.symbol().chars().next().map_or(0, |c| (c as u32).wrapping_sub(EMPTY));
            let bits = if there <= 0xff { bits | there } else { *bits };
            let mark = char::from_u32(EMPTY + bits).unwrap_or(' ');
            cell.set_char(mark).set_style(under);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;

    fn drawn(line: &DotLine, under: &str) -> Vec<String> {
        let area = Rect { x: 0, y: 0, width: line.width, height: line.height };
        let mut buffer = Buffer::empty(area);
        (0..area.height)
            .for_each(|y| buffer.set_string(0, y, under.repeat(area.width as usize), Style::new()));
        line.draw(Style::new(), &mut Canvas::new(&mut buffer, area));
        (0..area.height).map(|y| (0..area.width).map(|x| buffer[(x, y)].symbol()).collect()).collect()
    }

    #[test]
    fn a_line_joins_its_points_and_is_broken_where_there_is_none() {
        let mut line = DotLine::new(4, 1, 1);
        [Some((0, 0)), Some((3, 3)), None, Some((6, 0)), Some((7, 0))].into_iter().for_each(|p| line.to(p));
        assert_eq!(drawn(&line, " "), ["⠑⢄ ⠉"]);
    }

    #[test]
    fn what_lies_outside_is_not_drawn_and_a_steep_line_is_whole() {
        let mut line = DotLine::new(1, 2, 1);
        [Some((0, -1_000_000)), Some((0, 1_000_000))].into_iter().for_each(|p| line.to(p));
        assert_eq!(drawn(&line, " "), ["⡇", "⡇"]);
        let mut away = DotLine::new(2, 2, 1);
        [Some((-9, 3)), Some((-5, 3)), Some((40, 40))].into_iter().for_each(|p| away.to(p));
        assert!(drawn(&away, " ").concat().chars().all(|c| c == ' ' || c as u32 > EMPTY));
    }

    #[test]
    fn lines_that_cross_both_stay() {
        let mut line = DotLine::new(1, 1, 1);
        [Some((0, 3)), Some((1, 3))].into_iter().for_each(|p| line.to(p));
        assert_eq!(drawn(&line, "⠉"), ["⣉"]);
    }

    #[test]
    fn edges_of_bodies_stay() {
        let mut line = DotLine::new(2, 1, 1);
        [Some((0, 0)), Some((3, 0))].into_iter().for_each(|p| line.to(p));
        assert_eq!(drawn(&line, "▄"), ["▄▄"]);
        assert_eq!(drawn(&line, "█"), ["⠉⠉"]);
    }
}
