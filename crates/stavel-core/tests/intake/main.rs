//! Intake, from files of every kind to editions on a shelf.

mod bad_input;
mod formats;
mod support;
mod weaving;
mod whole;
