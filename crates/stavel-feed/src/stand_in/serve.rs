//! Starting a stand-in, on this machine only, and ending it.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;

use axum::extract::State as Extracted;
use axum::routing::{get, post};
use axum::{Json, Router};
use tokio::sync::oneshot;

use super::broker;
use super::calendar;
use super::counts::Counted;
use super::history::MadeUpHistory;
use super::state::{State, Switch};
use super::vendor;

/// How a stand-in is to be.
#[derive(Debug, Clone)]
pub struct StandInWish {
    /// The port; 0 for any that is free.
    pub port: u16,
    /// The first day of its histories, counted from 1970-01-01.
    pub first_day: i64,
    /// The folder that gets the texts of its feeds, and the tokens.
    pub folder: PathBuf,
    pub switch: Switch,
}

/// A stand-in that runs until it is dropped.
pub struct RunningStandIn {
    pub address: SocketAddr,
    /// The texts of its feeds.
    pub feeds: Vec<PathBuf>,
    state: Arc<State>,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl RunningStandIn {
    /// Waits until it ends by itself, which it does not.
    pub fn wait(mut self) {
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }

    /// What was asked for so far.
    pub fn counted(&self) -> Counted {
        self.state.counts().told()
    }

    /// What it is set to.
    pub fn switch(&self) -> Switch {
        self.state.switch()
    }

    /// Sets it anew.
    pub fn set(&self, switch: Switch) {
        self.state.set(switch);
    }

    /// The made-up histories it hands out.
    pub fn histories(&self) -> &[MadeUpHistory] {
        &self.state.histories
    }
}

impl Drop for RunningStandIn {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            // Whoever has ended already needs no word.
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Starts the stand-ins.
///
/// # Errors
/// Where the port is taken, or the folder cannot be written.
pub fn start(wish: &StandInWish) -> io::Result<RunningStandIn> {
    let listener = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, wish.port))?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    let token = format!("{:016x}{:016x}", fastrand::u64(..), fastrand::u64(..));
    let feeds = write_feeds(&wish.folder, &format!("http://{address}"), &token, &wish.switch)?;
    let histories = MadeUpHistory::all(wish.first_day)?;
    let state = Arc::new(State::new(histories, token, wish.switch.clone()));
    let (stop, stopped) = oneshot::channel();
    let routes = Router::new()
        .route(
            "/counts",
            get(|Extracted(state): Extracted<Arc<State>>| async move { Json(state.counts().told()) }),
        )
        .route("/switch", post(set))
        .route("/switch", get(|Extracted(state): Extracted<Arc<State>>| async move { Json(state.switch()) }))
        .nest("/quill", vendor::routes())
        .nest("/tarn", broker::routes())
        .nest("/skerry", calendar::routes())
        .with_state(state.clone());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let thread = std::thread::spawn(move || {
        runtime.block_on(async move {
            let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
            let served = axum::serve(listener, routes);
            tokio::select! {
                _ = served => {}
                _ = stopped => {}
            }
        });
    });
    Ok(RunningStandIn { address, feeds, state, stop: Some(stop), thread: Some(thread) })
}

async fn set(Extracted(state): Extracted<Arc<State>>, Json(switch): Json<Switch>) -> Json<Switch> {
    state.set(switch);
    Json(state.switch())
}

/// Writes the token, which nobody else may read, and the texts of the feeds.
fn write_feeds(folder: &Path, address: &str, token: &str, switch: &Switch) -> io::Result<Vec<PathBuf>> {
    std::fs::create_dir_all(folder)?;
    let folder = std::path::absolute(folder)?;
    let token_file = folder.join("stand-in.token");
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    io::Write::write_all(&mut options.open(&token_file)?, token.as_bytes())?;
    let texts = [
        ("quill.toml", vendor::feed_text(address, &token_file, switch.per_second)),
        ("tarn.toml", broker::feed_text(address, &token_file, switch.per_second)),
        ("skerry.toml", calendar::feed_text(address, &token_file, switch.per_second)),
    ];
    let write = |(name, text): (&str, String)| {
        let path = folder.join(name);
        std::fs::write(&path, text).map(|()| path)
    };
    texts.into_iter().map(write).collect()
}
