//! The client of feeds: services that hand out histories in pieces over HTTP, each described by a text.

mod download;
mod feed;
mod http;
mod listing;
mod pace;
mod pieces;
mod queue;
mod spool;
mod token;

pub use download::Fetched;
pub use feed::{Feed, FeedSeries, PieceLength};
pub use http::{Failure, Service};
pub use listing::{Listed, ListedSeries, listing};
pub use pieces::{Piece, QueuedPiece, pieces};
pub use queue::{FetchOutcome, fetch_all};
pub use spool::Spool;
