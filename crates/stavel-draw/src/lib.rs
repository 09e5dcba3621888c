//! A chart as data, and its drawing.
//!
//! [`scene`] turns bars into a [`Scene`]: panes with layers on one axis of slots. The bench draws a
//! scene with characters; [`svg`] and [`pdf`] draw it into files.

pub mod pdf;
pub mod report;
pub mod scene;
pub mod svg;

pub use scene::{Candle, Layer, Pane, Scene, SceneRequest, scene};
