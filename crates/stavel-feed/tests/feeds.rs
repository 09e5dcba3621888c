//! The client against the stand-ins: faults, pace, what is not there, what is said where something is wrong.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};

use stavel_core::job::Job;
use stavel_core::model::Span;
use stavel_core::model::time::{DAY, day_of, days_from_civil, parse};
use stavel_feed::client::{
    Feed, Fetched, LiveConnection, NotConnected, QueuedPiece, Service, Spool, fetch_all, listing, pieces,
};
use stavel_feed::stand_in::{RunningStandIn, StandInWish, Switch, start};

fn running(folder: &Path, switch: Switch) -> RunningStandIn {
    let first_day = days_from_civil(2024, 2, 5);
    start(&StandInWish { port: 0, first_day, folder: folder.to_owned(), switch }).unwrap()
}

fn feed_of(running: &RunningStandIn) -> Feed {
    Feed::from_toml(&std::fs::read_to_string(&running.feeds[0]).unwrap()).unwrap()
}

/// All ticks that a service lists, day by day.
fn queue_of(service: &Service, days: i64) -> Vec<QueuedPiece> {
    let mut queue = Vec::new();
    for listed in listing(service, &|| false).unwrap() {
        let series = &listed.series[0];
        let first = series.first.unwrap();
        for piece in pieces(Span::new(first, first + days * DAY), &series.kind) {
            queue.push(QueuedPiece {
                series: series.name.clone(),
                symbol: series.symbol.clone(),
                kind: series.kind.clone(),
                piece,
                etag: None,
            });
        }
    }
    queue
}

/// What was fetched, by path below the service.
fn fetched(
    service: &Service,
    queue: Vec<QueuedPiece>,
    spool: &Spool,
) -> BTreeMap<String, Result<Fetched, String>> {
    let mut all = BTreeMap::new();
    fetch_all(service, queue, spool, &Job::unwatched(), &mut |told| {
        let key = format!("{}/{}", told.queued.series.instrument, told.queued.piece.label);
        assert!(all.insert(key, told.outcome).is_none(), "each once");
        Ok(())
    })
    .unwrap();
    all
}

fn unpacked(path: &Path) -> String {
    let mut text = String::new();
    let file = std::fs::File::open(path).unwrap();
    std::io::Read::read_to_string(&mut flate2::read::GzDecoder::new(file), &mut text).unwrap();
    text
}

#[test]
fn sixty_days_of_three_instruments_come_whole_through_faults_and_at_the_pace_permitted() {
    let dir = tempfile::tempdir().unwrap();
    let switch =
        Switch { faults: 10, per_second: 60, now: "2024-04-05T00:00:00Z".into(), ..Switch::default() };
    let running = running(&dir.path().join("feeds"), switch);
    let feed = feed_of(&running);
    let service = Service::of(&feed).unwrap();
    let queue = queue_of(&service, 60);
    assert_eq!(queue.len(), 180);
    let spool = Spool::new(dir.path().join("spool"));
    let all = fetched(&service, queue.clone(), &spool);
    let counted = running.counted();
    let mut days = 0;
    for (key, outcome) in &all {
        let (name, label) = key.split_once('/').unwrap();
        let history = running.histories().iter().find(|h| h.name == name).unwrap();
        let expected = history.quotes(day_of(parse(label).unwrap()));
        match outcome.as_ref().unwrap() {
            Fetched::There { path, .. } => {
                let text = unpacked(path);
                assert_eq!(text.lines().count(), expected.len(), "{key}");
                let last = text.lines().last().unwrap();
                let price = format!(
                    "{:.*}",
                    usize::from(history.decimals),
                    expected.last().unwrap().bid as f64 / 10f64.powi(i32::from(history.decimals))
                );
                assert!(last.contains(&format!(",{price},")), "{last} {price}");
                days += 1;
            }
            Fetched::Empty => assert!(expected.is_empty(), "{key}"),
            Fetched::Unchanged => panic!("{key} was not there before"),
        }
    }
    assert!(days > 120 && counted.faults > 3, "{days} days, {counted:?}");
    assert_eq!(counted.refused, 0, "the limit was never broken");
    assert!(counted.most_in_a_second <= 62, "{counted:?}");
    assert!(counted.whole.values().all(|times| *times == 1), "nothing was handed out twice");
    // What lies in the spool is not asked for again.
    let again = fetched(&service, queue, &spool);
    assert_eq!(again.values().filter(|o| matches!(o, Ok(Fetched::There { .. }))).count(), days);
    let asked_again = running.counted().requests - counted.requests;
    assert_eq!(asked_again as usize, 180 - days, "only what was empty");
}

#[test]
fn a_cut_reply_is_gone_on_with_and_a_changed_byte_is_not_taken() {
    let dir = tempfile::tempdir().unwrap();
    let running = running(&dir.path().join("feeds"), Switch { per_second: 500, ..Switch::default() });
    let feed = feed_of(&running);
    let service = Service::of(&feed).unwrap();
    let queue = queue_of(&service, 1);
    let spool = Spool::new(dir.path().join("spool"));
    let first = &queue[0];
    let path = spool.path(&first.series, &first.kind, &first.piece);
    let all = fetched(&service, vec![first.clone()], &spool);
    let whole = std::fs::read(&path).unwrap();
    let Some(Ok(Fetched::There { etag: Some(etag), sha256, .. })) = all.values().next() else {
        panic!("{all:?}")
    };
    // The first half of it is there already, as a kill leaves it.
    std::fs::remove_file(&path).unwrap();
    let about = serde_json::json!({ "etag": etag, "sha256": sha256 }).to_string();
    let lay = |bytes: &[u8], about: &str| {
        std::fs::write(Spool::part_path(&path), bytes).unwrap();
        std::fs::write(path.with_extension("gz.about"), about).unwrap();
    };
    lay(&whole[..whole.len() / 2], &about);
    fetched(&service, vec![first.clone()], &spool);
    assert_eq!(std::fs::read(&path).unwrap(), whole);
    // Half of something else: its sum tells, and it is fetched anew.
    std::fs::remove_file(&path).unwrap();
    lay(&vec![7; whole.len() / 2], &about);
    fetched(&service, vec![first.clone()], &spool);
    assert_eq!(std::fs::read(&path).unwrap(), whole);
    // What the feed has is as it was.
    std::fs::remove_file(&path).unwrap();
    let known = QueuedPiece { etag: Some(etag.clone()), ..first.clone() };
    assert_eq!(fetched(&service, vec![known], &spool).values().next(), Some(&Ok(Fetched::Unchanged)));
}

/// Every failure is one sentence without the token.
#[test]
fn what_is_wrong_is_told_in_one_sentence() {
    let dir = tempfile::tempdir().unwrap();
    let running = running(&dir.path().join("feeds"), Switch { per_second: 500, ..Switch::default() });
    let text = std::fs::read_to_string(&running.feeds[0]).unwrap();
    let told = |text: &str| {
        let feed = Feed::from_toml(text).unwrap();
        let told =
            Service::of(&feed).and_then(|service| listing(&service, &|| false)).unwrap_err().to_string();
        assert_eq!(told.matches(['\n', '\r']).count(), 0, "{told}");
        assert!(!told.contains("wrong-token"), "{told}");
        told
    };
    let token = dir.path().join("feeds/stand-in.token");
    std::fs::write(&token, "wrong-token").unwrap();
    assert!(told(&text).contains("The feed quill refuses its token"), "{}", told(&text));
    let without: String =
        text.lines().filter(|l| !l.starts_with("token")).map(|l| format!("{l}\n")).collect();
    assert!(told(&without).contains("wants a token"), "{}", told(&without));
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(&token, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(told(&text).contains("chmod 600"), "{}", told(&text));
    }
    let by_env =
        text.lines().map(|l| if l.starts_with("token") { "token = { env = 'STAVEL_NO_SUCH' }" } else { l });
    let by_env: String = by_env.map(|l| format!("{l}\n")).collect();
    assert!(told(&by_env).contains("STAVEL_NO_SUCH, which is not set"), "{}", told(&by_env));
    let fewer_tries = |text: &str| text.replace("at_once = 4", "at_once = 4, tries = 2");
    let moved = fewer_tries(&without.replace("/quill\"", "/nowhere\""));
    assert!(told(&moved).contains("nothing at http://127.0.0.1"), "{}", told(&moved));
    let no_list = fewer_tries(&text.replace("list = \"instruments\"", "list = \"pairs\""));
    std::fs::remove_file(&token).unwrap();
    assert!(told(&no_list).contains("Cannot read"), "{}", told(&no_list));
    // A port that nobody listens on.
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let gone = fewer_tries(&without.replace(&running.address.to_string(), &closed.to_string()));
    assert!(told(&gone).contains("refuses the connection"), "{}", told(&gone));
    // A service that does not speak TLS.
    let plain = fewer_tries(&without.replace("http://", "https://"));
    let told_of_tls = told(&plain);
    assert!(told_of_tls.contains("The feed quill"), "{told_of_tls}");
}

/// A day that is late is empty first, and there later.
#[test]
fn a_day_that_comes_late_is_nothing_first() {
    let dir = tempfile::tempdir().unwrap();
    let late = std::iter::once("2024-02-05".to_owned()).collect();
    let running = running(&dir.path().join("feeds"), Switch { late, per_second: 500, ..Switch::default() });
    let service = Service::of(&feed_of(&running)).unwrap();
    let queue: Vec<QueuedPiece> = queue_of(&service, 2).into_iter().take(2).collect();
    let spool = Spool::new(dir.path().join("spool"));
    let all = fetched(&service, queue.clone(), &spool);
    assert_eq!(all["NOKSEK/2024-02-05"], Ok(Fetched::Empty));
    assert!(matches!(all["NOKSEK/2024-02-06"], Ok(Fetched::There { .. })));
    running.set(Switch { late: Default::default(), ..running.switch() });
    assert!(matches!(fetched(&service, queue, &spool)["NOKSEK/2024-02-05"], Ok(Fetched::There { .. })));
}

/// A service whose certificate nobody vouches for gets nothing, not even the request; one that is trusted by name is read.
#[test]
fn a_certificate_is_looked_at_before_anything_is_sent() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name).to_string_lossy().into_owned();
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30", "-subj", "/CN=localhost"])
        .args([
            "-addext",
            "subjectAltName=DNS:localhost",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
            "-keyout",
            &at("key.pem"),
            "-out",
            &at("cert.pem"),
        ])
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    std::fs::write(dir.path().join("instruments"), r#"[{"name": "NOK/SEK"}, {"name": "?!"}]"#).unwrap();
    let serve = "import http.server, ssl, sys\n\
                 s = http.server.ThreadingHTTPServer(('127.0.0.1', 0), http.server.SimpleHTTPRequestHandler)\n\
                 http.server.SimpleHTTPRequestHandler.protocol_version = 'HTTP/1.1'\n\
                 c = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER); c.load_cert_chain('cert.pem', 'key.pem')\n\
                 s.socket = c.wrap_socket(s.socket, server_side=True)\n\
                 print(s.server_address[1], flush=True); s.serve_forever()\n";
    let mut server = Command::new("python3")
        .args(["-c", serve])
        .current_dir(dir.path())
        .stdout(Stdio::piped())
        .stderr(std::fs::File::create(dir.path().join("asked")).unwrap())
        .spawn()
        .unwrap();
    let mut port = String::new();
    BufReader::new(server.stdout.take().unwrap()).read_line(&mut port).unwrap();
    let text = |more: &str, host: &str| {
        format!(
            "name = 'far'\naddress = 'https://{host}:{}'\n{more}\nlimits = {{ per_second = 50, tries = 2 }}\n\
             [instruments]\npath = '/instruments'\n\
             [[series]]\nframe = 'ticks'\nby = 'day'\npath = '/{{instrument}}/{{date}}'\n",
            port.trim()
        )
    };
    let listed = |text: &str| {
        let feed = Feed::from_toml(text).unwrap();
        Service::of(&feed).and_then(|service| listing(&service, &|| false))
    };
    let told = listed(&text("", "localhost")).unwrap_err().to_string();
    assert!(told.contains("not to be trusted, so nothing was sent"), "{told}");
    assert!(!std::fs::read_to_string(dir.path().join("asked")).unwrap().contains("GET"));
    let trusted = format!("certificates = '{}'", at("cert.pem"));
    let names: Vec<String> =
        listed(&text(&trusted, "localhost")).unwrap().into_iter().map(|l| l.name).collect();
    assert_eq!(names, ["NOKSEK"], "and what cannot be named is passed over");
    // The certificate is that of another host.
    let told = listed(&text(&trusted, "127.0.0.1")).unwrap_err().to_string();
    assert!(told.contains("not to be trusted"), "{told}");
    // A stream is no other matter.
    let live = |text: &str| {
        let feed = Feed::from_toml(&format!("{text}[live]\npath = '/live'\n")).unwrap();
        match LiveConnection::open(&feed, feed.live.as_ref().unwrap(), &[]) {
            Err(NotConnected::Final(why)) => why.to_string(),
            other => panic!("{:?}", other.err()),
        }
    };
    std::fs::write(dir.path().join("asked"), "").unwrap();
    assert!(live(&text("", "localhost")).contains("not to be trusted, so nothing was sent"));
    assert!(!std::fs::read_to_string(dir.path().join("asked")).unwrap().contains("GET"));
    assert!(live(&text(&trusted, "localhost")).contains("no stream at the path of live"));
    server.kill().unwrap();
    server.wait().unwrap();
}
