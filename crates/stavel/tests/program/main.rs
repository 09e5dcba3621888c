//! The real program: its commands as other programs use them, and the bench in a real terminal.

mod bench;
mod commands;
mod hard;
mod support;
mod truth;
