//! A chart as data, and its drawing.
//!
//! [`scene()`] turns bars into a [`Scene`]: panes with layers on one axis of slots. The bench draws a scene with
//! characters; [`to_svg`] and [`to_pdf`] draw any [`Picture`] into files.

mod chart;
mod dossier;
mod grid;
mod look;
mod marks;
mod pdf;
mod picture;
pub mod report;
mod scene;
mod svg;

pub use chart::Sheet;
pub use dossier::{Dossier, DossierLine, DossierPicture, DossierSection, LineTone};
pub use grid::{CellGrid, GridCell, GridRow, GridSheet};
pub use look::{Ground, PictureLook};
pub use marks::{MarkAt, MarkKind, SceneMark};
pub use pdf::to_pdf;
pub use picture::Picture;
pub use scene::{BarStyle, Candle, Edge, EdgeKind, Layer, Pane, Scene, SceneRequest, scene};
pub use svg::to_svg;
