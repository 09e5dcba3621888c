//! The model and the store against slow plain versions of themselves.

mod account;
mod model;
mod readers;
mod shelf;
