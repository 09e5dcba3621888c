//! The real program: its commands as other programs use them, and the bench in a real terminal.

mod auto;
mod bench;
mod commands;
mod feeds;
mod foundations;
mod hard;
mod judging;
mod opened;
mod support;
mod truth;
