//! Drawing on a chart: what is being drawn, chosen or moved. Its keys are those of the lens it is used in.

use stavel_core::model::time::wall;
use stavel_core::model::{DrawingColour, DrawingKind, DrawnPoint, Micros, SeriesName};
use stavel_draw::{DrawingAt, range_in_words, slot_of};
use stavel_work::{DrawStep, PlacedDrawing, Step, point_in_words};
use strum::VariantArray;

use super::FactLine;
use crate::effect::{Effects, ask, say, start, warn};

/// What can be done with drawings.
#[derive(Debug, Clone, Copy)]
pub enum DrawAct {
    /// Draws something, or something else.
    Kind,
    /// Puts a point at the cursor.
    Place,
    /// Chooses the next of what is drawn.
    Choose,
    /// Takes up a point of what is chosen, or its next.
    Move,
    Colour,
    Words,
    Remove,
}

/// What the cursor is at, and what is there.
pub struct DrawPlace<'a> {
    pub series: &'a SeriesName,
    /// The bar under the cursor and its price.
    pub at: DrawnPoint,
    pub drawings: &'a [PlacedDrawing],
    /// The moment reached, in a rehearsal.
    pub rehearsed: Option<Micros>,
}

/// The state of drawing.
#[derive(Default)]
pub struct Drawer {
    /// What is being drawn, and its first point once that is placed.
    kind: Option<DrawingKind>,
    first: Option<DrawnPoint>,
    /// The number of the drawing that is chosen, and the point of it that follows the cursor.
    chosen: Option<u64>,
    moving: Option<usize>,
    /// The price of the cursor; that of the bar until it is moved.
    price: Option<f64>,
    /// What the words that are asked for are of.
    asked: Option<DrawStep>,
}

impl Drawer {
    /// True while something is being drawn or moved: the cursor has a price of its own then.
    pub fn is_at_work(&self) -> bool {
        self.kind.is_some() || self.moving.is_some()
    }

    /// The price of the cursor, where a person has moved it.
    pub fn price(&self) -> Option<f64> {
        self.price
    }

    /// Moves the price of the cursor.
    pub fn put_price(&mut self, price: Option<f64>) {
        self.price = price;
    }

    /// Does an act.
    pub fn act(&mut self, act: DrawAct, place: &DrawPlace<'_>) -> Effects {
        match act {
            DrawAct::Kind => self.next_kind(),
            DrawAct::Place => self.place(place),
            DrawAct::Choose => self.choose_next(place),
            DrawAct::Move => self.take_up(place),
            DrawAct::Colour => self.of_chosen(place, |drawn, step| {
                let all = DrawingColour::VARIANTS;
                let at = all.iter().position(|colour| *colour == drawn.drawing.colour).unwrap_or(0);
                start(Step::Draw(DrawStep { colour: Some(all[(at + 1) % all.len()]), ..step }))
            }),
            DrawAct::Words => {
                let mut asked = None;
                let effects = self.of_chosen(place, |drawn, step| {
                    asked = Some(step);
                    ask(format!("words of the {}", drawn.drawing.kind), drawn.drawing.text.clone())
                });
                self.asked = asked;
                effects
            }
            DrawAct::Remove => {
                let effects = self.of_chosen(place, |drawn, step| {
                    start(Step::Draw(DrawStep {
                        change: None,
                        rehearsed: None,
                        remove: Some(drawn.drawing.id),
                        ..step
                    }))
                });
                (self.chosen, self.moving) = (None, None);
                effects
            }
        }
    }

    fn next_kind(&mut self) -> Effects {
        let all = DrawingKind::VARIANTS;
        let next = self.kind.map_or(0, |kind| all.iter().position(|k| *k == kind).map_or(0, |at| at + 1));
        (self.kind, self.first, self.chosen, self.moving) = (all.get(next).copied(), None, None, None);
        match self.kind {
            Some(kind) => say(format!("{kind}: {}", about(kind))),
            None => say("nothing is being drawn"),
        }
    }

    fn place(&mut self, place: &DrawPlace<'_>) -> Effects {
        if let (Some(moving), Some(id)) = (self.moving.take(), self.chosen) {
            let point = Some(point_in_words(place.at));
            let rehearsed = place.rehearsed.map(wall);
            let step = DrawStep { change: Some(id), rehearsed, ..DrawStep::of(place.series.clone()) };
            return start(Step::Draw(match moving {
                0 => DrawStep { at: point, ..step },
                _ => DrawStep { to: point, ..step },
            }));
        }
        let Some(kind) = self.kind else { return say("nothing is being drawn: d says what to draw") };
        let step = DrawStep {
            kind: Some(kind),
            at: Some(point_in_words(self.first.unwrap_or(place.at))),
            rehearsed: place.rehearsed.map(wall),
            ..DrawStep::of(place.series.clone())
        };
        if kind == DrawingKind::Text {
            self.asked = Some(step);
            return ask("words at this place", "");
        }
        if kind.points() == 1 {
            self.kind = None;
            return start(Step::Draw(step));
        }
        match self.first {
            None => {
                self.first = Some(place.at);
                say(format!("the first point is at {}; now the second", point_in_words(place.at)))
            }
            Some(first) if first == place.at => warn("both points are the same: move the cursor first"),
            Some(_) => {
                (self.kind, self.first) = (None, None);
                start(Step::Draw(DrawStep { to: Some(point_in_words(place.at)), ..step }))
            }
        }
    }

    fn choose_next(&mut self, place: &DrawPlace<'_>) -> Effects {
        (self.kind, self.first, self.moving) = (None, None, None);
        let ids: Vec<u64> = place.drawings.iter().map(|drawn| drawn.drawing.id).collect();
        let at = ids.iter().position(|id| Some(*id) == self.chosen);
        self.chosen = ids.get(at.map_or(0, |at| at + 1)).copied();
        match self.chosen.and_then(|id| place.drawings.iter().find(|drawn| drawn.drawing.id == id)) {
            Some(drawn) => say(format!("{} {} is chosen", drawn.drawing.kind, drawn.drawing.id)),
            None if ids.is_empty() => say("nothing is drawn here: d draws"),
            None => say("no drawing is chosen"),
        }
    }

    fn take_up(&mut self, place: &DrawPlace<'_>) -> Effects {
        let Some(drawn) = self.chosen_of(place) else { return nothing_chosen() };
        let next = self.moving.map_or(0, |at| at + 1);
        self.moving = Some(next).filter(|at| *at < drawn.points.len());
        match self.moving {
            Some(at) => {
                let words = ["its first point", "its second point"][at.min(1)];
                say(format!("{words} follows the cursor; Enter puts it down, Esc leaves it"))
            }
            None => say("it stays where it is"),
        }
    }

    fn chosen_of<'p>(&self, place: &DrawPlace<'p>) -> Option<&'p PlacedDrawing> {
        place.drawings.iter().find(|drawn| Some(drawn.drawing.id) == self.chosen)
    }

    fn of_chosen(
        &self,
        place: &DrawPlace<'_>,
        act: impl FnOnce(&PlacedDrawing, DrawStep) -> Effects,
    ) -> Effects {
        let Some(drawn) = self.chosen_of(place) else { return nothing_chosen() };
        let (change, rehearsed) = (Some(drawn.drawing.id), place.rehearsed.map(wall));
        act(drawn, DrawStep { change, rehearsed, ..DrawStep::of(place.series.clone()) })
    }

    /// The answer to the words that were asked for; none where others were.
    pub fn answer(&mut self, text: &str) -> Option<Effects> {
        let step = self.asked.take()?;
        self.kind = None;
        if text.trim().is_empty() && step.kind.is_some() {
            return Some(say("without words nothing is drawn"));
        }
        Some(start(Step::Draw(DrawStep { text: Some(text.trim().to_owned()), ..step })))
    }

    /// Lets go what is innermost; false where there is nothing.
    pub fn let_go(&mut self) -> bool {
        self.moving.take().is_some()
            || self.first.take().is_some()
            || self.kind.take().is_some()
            || self.chosen.take().is_some()
            || self.price.take().is_some()
    }

    /// Chooses and takes up the point of a drawing that the pointer was pressed at: in the bar beside it at most, and
    /// within `reach` of its price.
    pub fn grab(&mut self, at: DrawnPoint, reach: f64, times: &[Micros], drawings: &[PlacedDrawing]) -> bool {
        let is_near = |point: &DrawnPoint| {
            let bars = slot_of(times, point.time).zip(slot_of(times, at.time)).map(|(a, b)| (a - b).abs());
            bars.is_some_and(|bars| bars <= 1.0) && (point.price - at.price).abs() <= reach
        };
        let place = |drawn: &PlacedDrawing| Some((drawn.drawing.id, drawn.points.iter().position(is_near)?));
        let Some((id, point)) = drawings.iter().find_map(place) else { return false };
        (self.chosen, self.moving, self.kind, self.first) = (Some(id), Some(point), None, None);
        true
    }

    /// True where the first of two points was just placed here, or what is moved has not left its place.
    pub fn is_at_first(&self, at: DrawnPoint) -> bool {
        self.first == Some(at)
    }

    /// True while a point waits for the button to be released.
    pub fn is_dragging(&self) -> bool {
        self.moving.is_some() || self.first.is_some()
    }

    /// What is drawn, with what is being drawn and moved at the cursor.
    pub fn shown(&self, drawings: &[PlacedDrawing], at: DrawnPoint) -> Vec<DrawingAt> {
        let one = |drawn: &PlacedDrawing| {
            let is_chosen = Some(drawn.drawing.id) == self.chosen;
            let mut shown = drawn.on_chart(is_chosen);
            if let Some(point) = self.moving.filter(|_| is_chosen).and_then(|i| shown.points.get_mut(i)) {
                *point = at;
            }
            shown
        };
        let mut all: Vec<DrawingAt> = drawings.iter().map(one).collect();
        all.extend(self.kind.map(|kind| {
            let points = [self.first.unwrap_or(at), at][..kind.points()].to_vec();
            let text = if kind == DrawingKind::Text { "text".to_owned() } else { String::new() };
            DrawingAt { id: 0, kind, points, text, colour: DrawingColour::default(), is_chosen: true }
        }));
        all
    }

    /// What is drawn, and what to do next, for the facts column.
    pub fn facts(&self, drawings: &[PlacedDrawing], at: DrawnPoint, decimals: usize) -> Vec<FactLine> {
        let mut out = Vec::new();
        if let Some(kind) = self.kind {
            out.extend([FactLine::Gap, FactLine::heading(format!("drawing: {kind}"))]);
            out.push(FactLine::words(about(kind)));
            if let Some(first) = self.first {
                let measured = range_in_words(first, at, None, decimals);
                out.push(FactLine::words(format!("from {}: {measured}", point_in_words(first))));
            }
        }
        if drawings.is_empty() {
            return out;
        }
        out.extend([FactLine::Gap, FactLine::heading("drawn")]);
        for drawn in drawings.iter().take(MOST_TOLD) {
            let mark = if Some(drawn.drawing.id) == self.chosen { "●" } else { "○" };
            let text = if drawn.drawing.text.is_empty() {
                drawn.points.first().map_or_else(String::new, |point| point_in_words(*point))
            } else {
                drawn.drawing.text.clone()
            };
            out.push(FactLine::words(format!("{mark} {} {} {text}", drawn.drawing.id, drawn.drawing.kind)));
        }
        if drawings.len() > MOST_TOLD {
            out.push(FactLine::words(format!("and {} more", drawings.len() - MOST_TOLD)));
        }
        out
    }
}

/// Drawings in the facts column.
const MOST_TOLD: usize = 6;

fn nothing_chosen() -> Effects {
    say("no drawing is chosen: n chooses the next one")
}

/// How a kind is drawn.
fn about(kind: DrawingKind) -> &'static str {
    match kind {
        DrawingKind::Level => {
            "Enter puts it at the price of the cursor; Up and Down move that; d another kind"
        }
        DrawingKind::Line => {
            "Enter at one end, then at the other; Up and Down move the price; d another kind"
        }
        DrawingKind::Ray => "Enter where it begins, then where it goes through; d another kind",
        DrawingKind::Box => "Enter at one corner, then at the opposite one; d another kind",
        DrawingKind::Range => "Enter at both points: what lies between is measured; d another kind",
        DrawingKind::Text => "Enter where the words are to stand; d nothing",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::effect::Effect;
    use stavel_core::model::Drawing;

    fn at(time: Micros, price: f64) -> DrawnPoint {
        DrawnPoint { time, price }
    }

    fn placed(id: u64, points: &[DrawnPoint]) -> PlacedDrawing {
        let drawing = Drawing {
            id,
            kind: if points.len() == 1 { DrawingKind::Level } else { DrawingKind::Line },
            points: points.to_vec(),
            text: String::new(),
            colour: DrawingColour::default(),
            series: "NOKSEK@quill:1m".parse().unwrap(),
            clock: Some("UTC".parse().unwrap()),
            rehearsed: None,
        };
        PlacedDrawing { drawing, points: points.to_vec() }
    }

    fn step(effects: Effects) -> DrawStep {
        match effects.into_iter().next() {
            Some(Effect::Start(step)) => match *step {
                Step::Draw(step) => step,
                other => panic!("{other:?}"),
            },
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_line_is_drawn_by_two_points_moved_by_one_and_let_go_step_by_step() {
        let series: SeriesName = "NOKSEK@quill:1m".parse().unwrap();
        let drawings = [placed(1, &[at(0, 1.0)]), placed(2, &[at(0, 1.0), at(60, 2.0)])];
        let place = |at| DrawPlace { series: &series, at, drawings: &drawings, rehearsed: Some(0) };
        let mut drawer = Drawer::default();
        drawer.act(DrawAct::Kind, &place(at(0, 1.0)));
        drawer.act(DrawAct::Kind, &place(at(0, 1.0)));
        assert!(drawer.is_at_work() && drawer.shown(&drawings, at(5, 1.5)).len() == 3);
        assert!(!matches!(drawer.act(DrawAct::Place, &place(at(0, 1.0)))[0], Effect::Start(_)));
        assert!(!matches!(drawer.act(DrawAct::Place, &place(at(0, 1.0)))[0], Effect::Start(_)), "no length");
        let drawn = step(drawer.act(DrawAct::Place, &place(at(60_000_000, 2.5))));
        assert_eq!(drawn.kind, Some(DrawingKind::Line));
        assert_eq!(drawn.at.as_deref(), Some("1970-01-01 00:00, 1"));
        assert_eq!(drawn.to.as_deref(), Some("1970-01-01 00:01, 2.5"));
        assert_eq!(drawn.rehearsed.as_deref(), Some("1970-01-01 00:00"));
        assert!(!drawer.is_at_work());

        // Nothing is changed before something is chosen.
        assert!(!matches!(drawer.act(DrawAct::Remove, &place(at(0, 1.0)))[0], Effect::Start(_)));
        drawer.act(DrawAct::Choose, &place(at(0, 1.0)));
        drawer.act(DrawAct::Choose, &place(at(0, 1.0)));
        drawer.act(DrawAct::Move, &place(at(0, 1.0)));
        drawer.act(DrawAct::Move, &place(at(0, 1.0)));
        assert_eq!(drawer.shown(&drawings, at(9, 7.0))[1].points, [at(0, 1.0), at(9, 7.0)]);
        let moved = step(drawer.act(DrawAct::Place, &place(at(0, 7.0))));
        assert_eq!((moved.change, moved.at, moved.to.is_some()), (Some(2), None, true));
        let coloured = step(drawer.act(DrawAct::Colour, &place(at(0, 1.0))));
        assert_eq!((coloured.change, coloured.colour), (Some(2), Some(DrawingColour::Green)));
        drawer.act(DrawAct::Words, &place(at(0, 1.0)));
        let worded = step(drawer.answer(" the high ").unwrap());
        assert_eq!((worded.change, worded.text.as_deref()), (Some(2), Some("the high")));
        assert!(drawer.let_go() && !drawer.let_go());
        assert_eq!(drawer.answer("x").map(|effects| effects.len()), None);
    }

    #[test]
    fn the_pointer_takes_the_point_it_is_pressed_at_and_no_other() {
        let drawings = [placed(1, &[at(0, 1.0)]), placed(2, &[at(0, 3.0), at(50, 2.0)])];
        let times: Vec<Micros> = (0..10).map(|i| i * 10).collect();
        let mut drawer = Drawer::default();
        assert!(!drawer.grab(at(50, 2.5), 0.2, &times, &drawings));
        assert!(!drawer.grab(at(30, 2.0), 0.2, &times, &drawings));
        assert!(drawer.grab(at(60, 2.1), 0.2, &times, &drawings));
        assert_eq!((drawer.chosen, drawer.moving), (Some(2), Some(1)));
    }
}
