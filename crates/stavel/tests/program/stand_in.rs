//! The stand-ins of services, which the program also is.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, Stdio};

use serde_json::Value;

use super::support::Program;

/// The stand-ins, until dropped.
pub struct StandIn {
    child: Child,
    pub address: String,
    /// The texts of the vendor's, the broker's and the calendar's feed.
    pub feed: String,
    pub broker: String,
    pub calendar: String,
}

impl StandIn {
    pub fn start(p: &Program, args: &[&str]) -> StandIn {
        let dir = p.dir.path().join("feeds").to_string_lossy().into_owned();
        let mut child = p
            .command(&[&["stand-in", "--port", "0", "--dir", &dir], args].concat())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let told: Value = serde_json::from_str(&line).unwrap();
        let address = told["address"].as_str().unwrap().trim_start_matches("http://").to_owned();
        let feed = |at: usize| told["feeds"][at].as_str().unwrap().to_owned();
        StandIn { child, address, feed: feed(0), broker: feed(1), calendar: feed(2) }
    }

    /// Asks for a document, or sets one.
    pub fn ask(&self, path: &str, set: Option<&Value>) -> Value {
        let mut stream = std::net::TcpStream::connect(&self.address).unwrap();
        let body = set.map(Value::to_string).unwrap_or_default();
        let method = if set.is_some() { "POST" } else { "GET" };
        write!(
            stream,
            "{method} {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
        .unwrap();
        let mut reply = String::new();
        stream.read_to_string(&mut reply).unwrap();
        serde_json::from_str(reply.split_once("\r\n\r\n").unwrap().1)
            .unwrap_or_else(|e| panic!("{e}: {reply}"))
    }

    pub fn set(&self, key: &str, value: Value) {
        let mut switch = self.ask("/switch", None);
        switch[key] = value;
        self.ask("/switch", Some(&switch));
    }

    /// A text of a service, with the token.
    pub fn text(&self, p: &Program, path: &str) -> String {
        let token = std::fs::read_to_string(p.dir.path().join("feeds/stand-in.token")).unwrap();
        let mut stream = std::net::TcpStream::connect(&self.address).unwrap();
        write!(stream, "GET {path} HTTP/1.0\r\nHost: x\r\nX-Token: {token}\r\n\r\n").unwrap();
        let mut reply = String::new();
        stream.read_to_string(&mut reply).unwrap();
        reply.split_once("\r\n\r\n").unwrap().1.to_owned()
    }

    /// How often each file was handed out whole.
    pub fn whole(&self) -> BTreeMap<String, u64> {
        serde_json::from_value(self.ask("/counts", None)["whole"].clone()).unwrap()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
