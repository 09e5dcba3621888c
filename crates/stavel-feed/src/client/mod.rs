//! The client of feeds: services that hand out histories in pieces over HTTP, each described by a text.

mod dates;
mod download;
mod feed;
mod http;
mod listing;
mod live;
mod live_rows;
mod pace;
mod pieces;
mod queue;
mod specs;
mod spool;
mod token;

pub use dates::{CalendarForm, FeedDates, FetchedText, Tells, fetch_text};
pub use download::Fetched;
pub use feed::{Feed, FeedSeries, PieceLength};
pub use http::{Failure, Service};
pub use listing::{Listed, ListedSeries, at, listing, name_on_shelf};
pub use live::{FeedLive, Heard, LiveConnection, NotConnected};
pub use live_rows::{LiveRow, LiveRows, LiveValues};
pub use pieces::{Piece, QueuedPiece, pieces};
pub use queue::{FetchOutcome, fetch_all};
pub use specs::{FeedSpecs, ToldSpecs, fetch_specs, scalar};
pub use spool::Spool;
