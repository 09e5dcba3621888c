//! From a feed to a rehearsal on the bench, and the queue of a fetch.

use std::time::{Duration, Instant};

use super::bench::Terminal;
use super::stand_in::StandIn;
use super::support::Program;

fn with_feeds(p: &Program, feed: &StandIn) {
    for text in [&feed.feed, &feed.broker, &feed.calendar] {
        p.json(&["feeds", "--add", text]);
    }
}

/// Waits until a line of the screen has some words.
fn wait_line(t: &Terminal, words: &[&str]) {
    let end = Instant::now() + Duration::from_secs(60);
    while !t.screen().lines().any(|line| words.iter().all(|word| line.contains(word))) {
        assert!(Instant::now() < end, "never saw a line with {words:?} in\n{}", t.screen());
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// The whole job without a file touched by hand: each time the next hint says what to do.
#[test]
fn the_next_hint_leads_from_a_feed_to_a_rehearsal() {
    let p = Program::new();
    let now = ["--now", "2024-03-20T12:00:00Z", "--first", "2024-02-05", "--per-second", "400"];
    let feed = StandIn::start(&p, &now);
    with_feeds(&p, &feed);
    let t = Terminal::open(&p, (160, 47), "");
    t.wait("press f to see what feeds have");
    t.wait("next ▸ g see what the feeds have");
    t.keys(&["f"]);
    t.wait("NOKSEK 1m");
    // The vendor's minutes and the broker's, in one go.
    t.keys(&["Down", "m", "Down", "Down", "Down", "Down", "Down", "m"]);
    t.wait("fetch what is new of the marked");
    t.keys(&["n"]);
    t.wait("2 series: 13 pieces fetched");
    t.keys(&["e"]);
    // Holidays change what a check finds, so the calendar is to be here before the first one.
    t.wait("dated facts new");
    t.wait("next ▸ g check ");
    // On the chart the events are marked, and on the spine.
    t.keys(&["g"]);
    t.wait("completeness");
    t.wait("next ▸ g check tarn:1m");
    t.keys(&["g"]);
    t.wait("find the clock of tarn:1m");
    t.keys(&["g"]);
    t.wait("midnight is 17:00 in New York");
    t.keys(&["a"]);
    t.wait("anchored: stored in UTC");
    // Its rows are in another clock now.
    t.wait("next ▸ g check tarn:1m");
    t.keys(&["g"]);
    t.wait("join the sources");
    t.keys(&["g"]);
    t.wait("✓ adds up");
    t.keys(&["a"]);
    t.wait("build frames of joined:1m");
    t.keys(&["g"]);
    t.wait("a builds");
    t.keys(&["g"]);
    t.wait("deliver joined:1m and prove it");
    t.keys(&["2"]);
    t.wait("highest");
    t.wait("●");
    t.keys(&["v", "v"]);
    t.wait("events: high");
    t.keys(&["v"]);
    t.wait("no dates");
    t.keys(&["9"]);
    t.wait("the journal is empty");
}

/// A fetch that runs is held, its order is changed, a part of it is left away, and what has come stays when it is stopped.
#[test]
fn the_queue_of_a_fetch_is_steered() {
    let p = Program::new();
    let feed =
        StandIn::start(&p, &["--now", "2024-03-20T12:00:00Z", "--first", "2024-02-05", "--per-second", "8"]);
    with_feeds(&p, &feed);
    let t = Terminal::open(&p, (160, 47), "");
    t.wait("press f to see what feeds have");
    t.keys(&["v"]);
    t.wait("nothing is being fetched");
    t.keys(&["f"]);
    t.wait("NOKSEK 1m");
    t.keys(&["m", "Down", "m", "Down", "m"]);
    t.wait("fetch what is new of the marked");
    t.keys(&["n"]);
    t.wait("▶ fetching");
    t.keys(&["v"]);
    t.wait("‖ held");
    t.keys(&["d"]);
    t.wait("is not in the queue");
    // The chosen one is the minutes of the second pair's neighbour; one up it is in the queue.
    t.keys(&["Up", "b"]);
    t.wait("BLY-2024-05@quill:ticks comes first");
    t.keys(&["v"]);
    t.wait("▶ fetching");
    wait_line(&t, &["BLY-2024-05 ticks", "comes"]);
    wait_line(&t, &["NZDSEK ticks", "waits, place 3"]);
    t.keys(&["d"]);
    t.wait("the rest of BLY-2024-05@quill:ticks is left away");
    wait_line(&t, &["BLY-2024-05 ticks", "left away"]);
    wait_line(&t, &["NOKSEK ticks", "comes"]);
    t.keys(&["Escape"]);
    t.wait("stopped: what had come is here");
    let rows = p.told(&["shelf"]).1;
    assert!(rows.contains("BLY-2024-05  other") && rows.contains("NOKSEK  forex"), "{rows}");
}
