//! The real program: its commands as other programs use them, and the bench in a real terminal.

mod auto;
mod bench;
mod calendars;
mod commands;
mod depth;
mod feeds;
mod feeds_bench;
mod first_minutes;
mod foundations;
mod hard;
mod judging;
mod opened;
mod pictures;
mod recording;
mod served;
mod stand_in;
mod support;
mod truth;
