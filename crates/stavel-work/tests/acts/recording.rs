//! A live stream whose service does whatever it likes: every quote that was sent is kept once and in order, and nothing
//! else is.

use std::collections::VecDeque;
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use proptest::prelude::*;
use stavel_core::job::Job;
use stavel_core::model::{Field, Span};
use stavel_core::store::{FactFilter, Shelf, fact_kind};
use stavel_work::{RecordWish, add_feed, record};
use tungstenite::Message;

/// What a service does next.
#[derive(Debug, Clone)]
enum Deed {
    /// A quote, alone or among others that are none.
    Quote,
    Several(u8, bool),
    Junk(String),
    Binary(Vec<u8>),
    Silence(u64),
    /// The connection breaks off: at once, in the middle of a frame, or with a word.
    Break,
    HalfFrame,
    Goodbye,
}

impl Deed {
    fn ends(&self) -> bool {
        matches!(self, Deed::Break | Deed::HalfFrame | Deed::Goodbye)
    }
}

fn deeds() -> impl Strategy<Value = Vec<Deed>> {
    let words = prop_oneof![
        Just(String::new()),
        Just("[".repeat(400)),
        Just("{\"symbol\":\"NOKSEK\",\"time\":\"2024-03-05T00:00:00\"}".to_owned()),
        Just("{\"symbol\":\"NOKSEK\",\"time\":1e999,\"bid\":1,\"ask\":1}".to_owned()),
        Just("{\"symbol\":\"NOKSEK\",\"time\":\"2024-03-05\",\"bid\":\"1,5\\n9\",\"ask\":[]}".to_owned()),
        "\\PC{0,40}",
        any::<String>(),
    ];
    let deed = prop_oneof![
        8 => Just(Deed::Quote),
        3 => (1u8..20, any::<bool>()).prop_map(|(n, junk)| Deed::Several(n, junk)),
        4 => words.prop_map(Deed::Junk),
        2 => prop::collection::vec(any::<u8>(), 0..64).prop_map(Deed::Binary),
        1 => (0u64..40).prop_map(Deed::Silence),
        1 => prop_oneof![Just(Deed::Break), Just(Deed::HalfFrame), Just(Deed::Goodbye)],
    ];
    prop::collection::vec(deed, 1..30).prop_map(|mut deeds| {
        // Each end costs a pause, which grows.
        let mut ends = 0;
        deeds.retain(|deed| {
            ends += u32::from(deed.ends());
            !deed.ends() || ends <= 2
        });
        deeds
    })
}

/// The text of the quote with a number.
fn quote(n: u32) -> String {
    format!(
        r#"{{"symbol":"NOKSEK","time":"2024-03-05T{:02}:{:02}:{:02}","bid":1.{n:05},"ask":2.{n:05}}}"#,
        n / 3600,
        n / 60 % 60,
        n % 60
    )
}

/// Does the deeds, one connection after the other.
fn serve(listener: &TcpListener, mut deeds: VecDeque<Deed>, is_over: &AtomicBool) {
    let mut sent = 0;
    let mut one = || {
        sent += 1;
        quote(sent)
    };
    while !is_over.load(Ordering::Relaxed) {
        let Ok((stream, _)) = listener.accept() else { return };
        let Ok(raw) = stream.try_clone() else { return };
        let Ok(mut socket) = tungstenite::accept(stream) else { continue };
        // What is asked for is read before anything is sent, so that the end of the connection takes nothing with it.
        let _ = socket.read();
        while let Some(deed) = deeds.pop_front() {
            let done = match deed {
                Deed::Quote => socket.send(Message::text(one())),
                Deed::Several(n, has_junk) => {
                    let mut list: Vec<String> = (0..n).map(|_| one()).collect();
                    if has_junk {
                        list.insert(usize::from(n / 2), "{\"status\":\"fine\"}".into());
                    }
                    socket.send(Message::text(format!("[{}]", list.join(","))))
                }
                Deed::Junk(text) => socket.send(Message::text(text)),
                Deed::Binary(bytes) => socket.send(Message::binary(bytes)),
                Deed::Silence(ms) => {
                    std::thread::sleep(Duration::from_millis(ms));
                    Ok(())
                }
                Deed::HalfFrame => {
                    // A text of 100 bytes, of which two come.
                    let _ = std::io::Write::write_all(&mut &raw, &[0x81, 100, b'{', b'"']);
                    break;
                }
                Deed::Goodbye => {
                    let _ = socket.close(None);
                    let _ = socket.flush();
                    break;
                }
                Deed::Break => break,
            };
            if done.is_err() {
                break;
            }
        }
        let _ = raw.shutdown(std::net::Shutdown::Write);
        let mut rest = [0; 64];
        let _ = raw.set_read_timeout(Some(Duration::from_millis(200)));
        while std::io::Read::read(&mut &raw, &mut rest).is_ok_and(|n| n > 0) {}
        if deeds.is_empty() {
            return;
        }
    }
}

fn recorded(deeds: &[Deed]) -> (serde_json::Value, Vec<i64>, usize) {
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("shelf");
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let text = format!(
        "name = 'tarn'\naddress = 'http://{}'\n[live]\npath = '/live'\nsubscribe = '{{instrument}}'\n",
        listener.local_addr().unwrap()
    );
    let path = dir.path().join("tarn.toml");
    std::fs::write(&path, text).unwrap();
    add_feed(&Shelf::open_to_write(&root).unwrap(), &path).unwrap();
    let (job, is_over) = (Arc::new(Job::unwatched()), Arc::new(AtomicBool::new(false)));
    let address = listener.local_addr().unwrap();
    let server = std::thread::spawn({
        let (deeds, job, is_over) = (VecDeque::from(deeds.to_vec()), job.clone(), is_over.clone());
        move || {
            serve(&listener, deeds, &is_over);
            drop(listener);
            // What was sent last is on its way.
            std::thread::sleep(Duration::from_millis(150));
            job.stop();
        }
    });
    let wish = RecordWish { series: vec!["NOKSEK@tarn:ticks".parse().unwrap()], time: None };
    let report = record(&root, &wish, &job).unwrap();
    is_over.store(true, Ordering::Relaxed);
    // A server that still waits for a connection gets one.
    drop(TcpStream::connect(address));
    server.join().unwrap();
    let shelf = Shelf::open(&root).unwrap();
    let mut bids = Vec::new();
    let series = "NOKSEK@tarn:ticks".parse().unwrap();
    if let Some(info) = shelf.current(&series).unwrap() {
        for rows in shelf.scan(&info.edition, Span::ALL, Some(&[Field::Bid])).unwrap() {
            bids.extend_from_slice(rows.unwrap().column(Field::Bid));
        }
    }
    let gaps = FactFilter::of_kind(fact_kind::GAP);
    let facts = shelf.facts("NOKSEK").unwrap().into_iter().filter(|fact| gaps.holds(fact)).count();
    (report.json, bids, facts)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 40, ..ProptestConfig::default() })]
    #[test]
    fn a_stream_with_junk_stalls_and_ends_gives_its_quotes_and_nothing_else(deeds in deeds()) {
        let (told, bids, gaps) = recorded(&deeds);
        let (mut quotes, mut junk) = (0u32, 0u64);
        // An end counts as a gap where quotes lie on both sides of it.
        let (mut expected_gaps, mut is_away) = (0, false);
        for deed in &deeds {
            let before = quotes;
            match deed {
                Deed::Quote => quotes += 1,
                Deed::Several(n, has_junk) => {
                    quotes += u32::from(*n);
                    junk += u64::from(*has_junk);
                }
                Deed::Junk(text) => junk += u64::from(text.trim() != "[]"),
                Deed::Binary(_) => junk += 1,
                Deed::Silence(_) => {}
                Deed::Break | Deed::HalfFrame | Deed::Goodbye => is_away |= quotes > 0,
            }
            if quotes > before && std::mem::take(&mut is_away) {
                expected_gaps += 1;
            }
        }
        let unit = 100_000;
        let sent: Vec<i64> = (1..=i64::from(quotes)).map(|n| unit + n).collect();
        prop_assert_eq!(bids, sent);
        prop_assert_eq!(&told["recorded"][0]["rows"], quotes);
        prop_assert_eq!(&told["junk"], junk, "{}", told);
        prop_assert_eq!(gaps, expected_gaps);
    }
}
