//! The model and the store against slow plain versions of themselves.

mod model;
mod shelf;
