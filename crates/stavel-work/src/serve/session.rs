//! One client's replay, as messages: JSON in, JSON out, without a network.
//!
//! Each client has a replay of its own, with an account of its own: what another does, or fails to do, changes nothing in it,
//! and the same messages lead to the same answers. `docs/serve.md` has every message.

use serde::Deserialize;
use serde_json::{Value, json};
use stavel_core::model::price::scaled;
use stavel_core::model::time::rfc3339;
use stavel_core::model::{Frame, Micros};
use stavel_core::rehearse::{
    DeskAct, Direction, FileOrder, ReplayAct, Ticket, TradeQuote, Watch, WatchedBar, figures_of, lots_text,
    order_in_line, orders_in, parse_lots,
};
use stavel_core::{Error, Result};

use crate::rehearse::{Opened, account_json, depth_json, entry_json, figures_json};

/// The version of the messages.
const PROTOCOL: u32 = 1;
/// Quotes that one `go` plays at most.
const MOST_QUOTES: u64 = 100_000;

/// What a client asks for.
#[derive(Debug, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
enum ClientMessage {
    /// Plays on.
    Go {
        /// So many quotes; one where nothing else is said and quotes are watched.
        quotes: Option<u64>,
        /// Up to and with this moment.
        until: Option<String>,
    },
    /// What is told: quotes or not, and bars of which frames.
    Watch {
        #[serde(default)]
        quotes: bool,
        #[serde(default)]
        frames: Vec<String>,
        /// The recorded order book with each quote.
        #[serde(default)]
        depth: bool,
    },
    /// An order, as a line of words or by its columns.
    Order(Box<OrderAsked>),
    Move {
        order: u32,
        price: String,
    },
    Resize {
        order: u32,
        lots: String,
    },
    Cancel {
        order: u32,
    },
    CancelAll,
    Close {
        holding: u32,
        lots: Option<String>,
    },
    Flat {
        instrument: Option<String>,
    },
    Reverse {
        instrument: Option<String>,
    },
    Note {
        text: String,
        #[serde(default)]
        tag: String,
    },
    /// What is held, waits and was earned.
    Account,
    /// Ends it, with what it adds up to.
    Bye,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct OrderAsked {
    /// A line of words: then nothing else is said but the instrument.
    words: Option<String>,
    instrument: String,
    side: String,
    lots: String,
    #[serde(rename = "type")]
    kind: String,
    price: String,
    stop: String,
    target: String,
    until: String,
    tag: String,
}

/// A client's replay.
pub struct ServedReplay {
    opened: Opened,
    watch: Watch,
    has_quotes: bool,
    has_depth: bool,
    /// Lines of the journal that were told.
    told: usize,
    until: Micros,
    is_over: bool,
}

/// What follows from a message.
#[derive(Debug, PartialEq)]
pub struct ServedAnswer {
    /// Messages for the client, in order.
    pub events: Vec<Value>,
    /// False where the client takes its leave.
    pub stays: bool,
}

impl ServedReplay {
    /// A replay up to a moment; at first every quote is told.
    pub fn new(opened: Opened, until: Micros) -> ServedReplay {
        ServedReplay {
            opened,
            watch: Watch::default(),
            has_quotes: true,
            has_depth: false,
            told: 0,
            until,
            is_over: false,
        }
    }

    /// The first message: what is played.
    pub fn hello(&self, pace: &str) -> Value {
        let series = self.opened.played.iter().map(|one| {
            let edition = &one.info.edition;
            json!({
                "instrument": one.instrument.name, "series": one.info.name, "decimals": edition.scale.price,
                "tick_size": one.instrument.sheet.tick_size.to_string(), "rebuilt": one.rebuilt(),
                "depth": one.depth.as_ref().map(depth_json),
            })
        });
        json!({
            "event": "hello", "protocol": PROTOCOL, "series": series.collect::<Vec<_>>(),
            "currency": self.opened.currency, "begins": rfc3339(self.opened.began), "pace": pace,
        })
    }

    /// The moment reached.
    pub fn now(&self) -> Micros {
        self.opened.replay.desk().now()
    }

    /// When the next quote comes; none at the end.
    pub fn next_time(&self) -> Option<Micros> {
        self.opened.replay.next_time().filter(|next| *next <= self.until)
    }

    /// Takes a message of the client. What is not understood is answered in words and does nothing.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn take(&mut self, text: &str) -> Result<ServedAnswer> {
        let mut stays = true;
        let mut events = match serde_json::from_str::<ClientMessage>(text) {
            Err(e) => vec![error_event(&format!("this is not understood: {e}"))],
            Ok(ClientMessage::Bye) => {
                stays = false;
                vec![self.summary()]
            }
            Ok(asked) => match self.do_asked(asked) {
                Ok(events) => events,
                Err(err) if err.is_storage() => return Err(err),
                Err(err) => vec![error_event(&err.to_string())],
            },
        };
        events.iter_mut().for_each(|event| event["at"] = json!(rfc3339(self.now())));
        Ok(ServedAnswer { events, stays })
    }

    fn do_asked(&mut self, asked: ClientMessage) -> Result<Vec<Value>> {
        let act = match asked {
            ClientMessage::Go { quotes, until } => return self.go(quotes, until.as_deref()),
            ClientMessage::Watch { quotes, frames, depth } => {
                self.set_watch(quotes || depth, &frames)?;
                self.has_depth = depth;
                return Ok(vec![json!({"event": "done"})]);
            }
            ClientMessage::Account => {
                let mut account = account_json(self.opened.replay.desk());
                account["event"] = json!("account");
                return Ok(vec![account]);
            }
            ClientMessage::Bye => return Ok(Vec::new()),
            ClientMessage::Order(order) => DeskAct::Order(self.ticket(&order)?),
            ClientMessage::Move { order, price } => {
                DeskAct::Move { order, price: self.price_of(order, &price)? }
            }
            ClientMessage::Resize { order, lots } => DeskAct::Resize { order, lots: lots_of(&lots)? },
            ClientMessage::Cancel { order } => DeskAct::Cancel { order },
            ClientMessage::CancelAll => DeskAct::CancelAll { of: None },
            ClientMessage::Close { holding, lots } => {
                DeskAct::Close { holding, lots: lots.as_deref().map(lots_of).transpose()? }
            }
            ClientMessage::Flat { instrument } => {
                DeskAct::Flat { of: instrument.map(|name| self.place_of(&name)).transpose()? }
            }
            ClientMessage::Reverse { instrument } => {
                DeskAct::Reverse { of: self.place_of(&instrument.unwrap_or_default())? }
            }
            ClientMessage::Note { text, tag } => DeskAct::Note { text, tag },
        };
        let now = self.now();
        self.opened.replay.act(now, ReplayAct::Give(act))?;
        let mut events = self.journal_events();
        events.push(json!({"event": "done"}));
        Ok(events)
    }

    /// The place of an instrument; nothing means the only one there is.
    fn place_of(&self, name: &str) -> Result<usize> {
        let all = &self.opened.played;
        match (name, all.len()) {
            ("", 1) => Ok(0),
            ("", _) => Err(Error::arguments("Several instruments are played; name one.")),
            (name, _) => all
                .iter()
                .position(|one| one.instrument.name == name || one.info.name.to_string() == name)
                .ok_or_else(|| Error::arguments(format!("{name} is not played."))),
        }
    }

    fn ticket(&self, asked: &OrderAsked) -> Result<Ticket> {
        let of = self.place_of(&asked.instrument)?;
        let decimals = self.opened.played[of].info.edition.scale.price;
        let (order, tag) = match &asked.words {
            Some(words) => order_in_line(words, "1").map_err(Error::arguments)?,
            None => (order_of_columns(asked)?, asked.tag.clone()),
        };
        Ok(Ticket { tag, ..order.ticket(of, decimals)? })
    }

    fn price_of(&self, order: u32, text: &str) -> Result<i64> {
        let desk = self.opened.replay.desk();
        let of = desk.order(order).map_or(0, |order| order.of);
        let decimals = desk.traded()[of].decimals;
        stavel_core::model::price::parse_scaled(text.trim().as_bytes(), decimals)
            .map_err(|_| Error::arguments(format!("'{text}' is no price with at most {decimals} decimals.")))
    }

    fn set_watch(&mut self, quotes: bool, frames: &[String]) -> Result<()> {
        let mut watch = Watch::default();
        for text in frames {
            let frame: Frame = text.parse()?;
            for (of, one) in self.opened.played.iter().enumerate() {
                let info = &one.info;
                let rows = stavel_core::model::Columns::empty(&info.edition.fields, info.edition.scale);
                watch.add(of, &rows, info.name.frame, frame, &one.instrument.sheet.session)?;
            }
        }
        if !quotes && watch.is_empty() {
            return Err(Error::arguments("Watch quotes, or bars of at least one frame as 1m."));
        }
        (self.watch, self.has_quotes) = (watch, quotes);
        Ok(())
    }

    /// Plays on, to the next thing that is watched or as far as was said.
    fn go(&mut self, quotes: Option<u64>, until: Option<&str>) -> Result<Vec<Value>> {
        let until =
            until.map(stavel_core::model::time::parse).transpose()?.unwrap_or(Micros::MAX).min(self.until);
        let most = quotes.unwrap_or(1).clamp(1, MOST_QUOTES);
        let mut events = self.advance(until, most)?;
        let last = self.next_time().is_none();
        if last && !self.is_over {
            self.is_over = true;
            events.push(self.summary());
        } else {
            events.push(json!({"event": "turn", "time": rfc3339(self.now())}));
        }
        Ok(events)
    }

    /// Plays quotes and tells what is watched: so many quotes, or so many moments at which bars end.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn advance(&mut self, until: Micros, most: u64) -> Result<Vec<Value>> {
        let mut events = Vec::new();
        let until = until.min(self.until);
        for _ in 0..most {
            let Some(next) = self.next_time().filter(|next| *next <= until) else { break };
            if self.has_quotes {
                self.play_quote(next, &mut events)?;
            } else {
                let over = self.opened.replay.play_to_bar(&mut self.watch, until)?;
                events.extend(self.journal_events());
                events.extend(over.iter().map(|bar| self.bar_event(bar)));
            }
        }
        Ok(events)
    }

    fn play_quote(&mut self, next: Micros, events: &mut Vec<Value>) -> Result<()> {
        let tapes = self.opened.replay.tapes();
        let of = (0..tapes.len()).find(|of| tapes[*of].next_time() == Some(next)).unwrap_or(0);
        let quote = tapes[of].next();
        let over = match self.watch.is_empty() {
            true => self.opened.replay.step().map(|_| Vec::new())?,
            false => self.opened.replay.play_one(&mut self.watch)?,
        };
        events.extend(quote.map(|quote| self.quote_event(of, &quote)));
        events.extend(self.journal_events());
        events.extend(over.iter().map(|bar| self.bar_event(bar)));
        Ok(())
    }

    fn quote_event(&self, of: usize, quote: &TradeQuote) -> Value {
        let one = &self.opened.played[of];
        let price = |points: i64| scaled(points, one.info.edition.scale.price);
        let mut event = json!({
            "event": "quote", "time": rfc3339(quote.time), "instrument": one.instrument.name,
            "bid": price(quote.bid), "ask": price(quote.ask),
        });
        let book = self.opened.replay.desk().book(of).filter(|_| self.has_depth);
        if let Some(book) = book {
            for (key, direction) in [("bids", Direction::Sell), ("asks", Direction::Buy)] {
                let levels = book.against(direction).iter();
                event[key] =
                    levels.map(|level| json!([price(level.price), lots_text(level.left())])).collect();
            }
        }
        event
    }

    fn bar_event(&self, bar: &WatchedBar) -> Value {
        let one = &self.opened.played[bar.of];
        let price = |points: i64| scaled(points, one.info.edition.scale.price);
        let volume = bar.volume.map(|volume| scaled(volume, one.info.edition.scale.volume));
        json!({
            "event": "bar", "time": rfc3339(bar.time), "instrument": one.instrument.name, "frame": bar.frame.to_string(),
            "open": price(bar.open), "high": price(bar.high), "low": price(bar.low), "close": price(bar.close),
            "volume": volume,
        })
    }

    /// Lines of the journal that were not told yet.
    fn journal_events(&mut self) -> Vec<Value> {
        let desk = self.opened.replay.desk();
        let events = desk.journal()[self.told..].iter().map(|entry| entry_json(desk, entry)).collect();
        self.told = desk.journal().len();
        events
    }

    /// The last message: what it all adds up to.
    pub fn summary(&self) -> Value {
        let desk = self.opened.replay.desk();
        let mut account = account_json(desk);
        account["event"] = json!("end");
        account["statistics"] = figures_json(&figures_of(desk, self.opened.began));
        account
    }
}

/// What is wrong, in words.
pub fn error_event(why: &str) -> Value {
    json!({"event": "error", "why": why})
}

fn lots_of(text: &str) -> Result<i64> {
    parse_lots(text.trim()).ok_or_else(|| Error::arguments(format!("'{text}' is no size in lots as 0.50.")))
}

/// An order by its columns, read as a file of orders is.
fn order_of_columns(asked: &OrderAsked) -> Result<FileOrder> {
    let columns = [
        ("side", &asked.side),
        ("type", &asked.kind),
        ("lots", &asked.lots),
        ("price", &asked.price),
        ("stop", &asked.stop),
        ("target", &asked.target),
        ("until", &asked.until),
    ];
    let mut writer = csv::Writer::from_writer(Vec::new());
    let line = |values: Vec<&str>, writer: &mut csv::Writer<Vec<u8>>| {
        writer.write_record(values).map_err(|e| Error::arguments(format!("The order cannot be read: {e}.")))
    };
    line(std::iter::once("time").chain(columns.iter().map(|(name, _)| *name)).collect(), &mut writer)?;
    line(
        std::iter::once("1970-01-01T00:00Z").chain(columns.iter().map(|(_, value)| value.as_str())).collect(),
        &mut writer,
    )?;
    let text = writer.into_inner().map_err(|_| Error::arguments("The order cannot be read."))?;
    let orders = orders_in(&text[..], "of this message")?;
    orders.into_iter().next().ok_or_else(|| Error::arguments("The order says nothing."))
}
