//! The client of feeds: services that hand out histories in pieces over HTTP, each described by a text.

mod asked;
mod dates;
mod document;
mod download;
mod feed;
mod http;
mod listing;
mod live;
mod live_rows;
mod live_text;
mod pace;
mod pieces;
mod queue;
mod specs;
mod spool;
mod token;

pub use asked::{fetch_specs, fetch_text};
pub use dates::{CalendarForm, FeedDates, Tells};
pub use document::{at, name_on_shelf, scalar};
pub use download::Fetched;
pub use feed::{Feed, FeedSeries, PieceLength};
pub use http::{Failure, FetchedText, Service};
pub use listing::{Listed, ListedSeries, listing};
pub use live::{Heard, LiveConnection, NotConnected};
pub use live_rows::{LiveRow, LiveRows, LiveValues};
pub use live_text::FeedLive;
pub use pieces::{Piece, QueuedPiece, pieces};
pub use queue::{FetchOutcome, fetch_all};
pub use specs::{FeedSpecs, ToldSpecs};
pub use spool::Spool;
