//! A chart as data, and its drawing.
//!
//! [`scene()`] turns bars into a [`Scene`]: panes with layers on one axis of slots. The bench draws a scene with
//! characters; [`to_svg`] and [`to_pdf`] draw any [`Picture`] into files.

mod axes;
mod chart;
mod chart_drawings;
mod dossier;
mod drawing;
mod grid;
mod look;
mod marks;
mod pane;
mod pdf;
mod picture;
pub mod report;
mod scene;
mod svg;

pub use chart::Sheet;
pub use dossier::{Dossier, DossierLine, DossierPicture, DossierSection, LineTone};
pub use drawing::{
    DrawingAt, SceneDrawing, ScenePoint, Stretch, drawings_on, range_in_words, slot_of, time_of,
};
pub use grid::{CellGrid, GridCell, GridRow, GridSheet};
pub use look::{Ground, PictureLook};
pub use marks::{DealAt, MarkAt, MarkKind, SceneDeal, SceneMark};
pub use pane::{Candle, Layer, Pane};
pub use pdf::to_pdf;
pub use picture::Picture;
pub use scene::{BarStyle, Edge, EdgeKind, Scene, SceneRequest, scene};
pub use svg::to_svg;
