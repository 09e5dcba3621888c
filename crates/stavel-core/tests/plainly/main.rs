//! The model and the store against slow plain versions of themselves.

mod account;
mod depth;
mod desk;
mod desk_oracle;
mod desks;
mod model;
mod readers;
mod replay;
mod shelf;
mod watched;
