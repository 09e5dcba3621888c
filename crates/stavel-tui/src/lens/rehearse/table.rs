//! What can be done in a rehearsal, with its keys.

use crate::act::TableRow;
use crate::lens::drawer::DrawAct;

/// What can be done in a rehearsal.
#[derive(Debug, Clone, Copy)]
pub enum RehearseAct {
    Run,
    Slower,
    Faster,
    StepQuote,
    StepBar,
    StepMinute,
    BackBar,
    Buy,
    Sell,
    Order,
    Size,
    Bracket,
    NameBracket,
    Flat,
    ClosePart,
    Reverse,
    ChooseOrder,
    CancelOrder,
    Money,
    Jump,
    NextSession,
    NextDay,
    NextEvent,
    NextLongBar,
    NextFinding,
    Bookmark,
    ToBookmark,
    AddPane,
    NextPane,
    Calendar,
    Journal,
    Note,
    TakeUp,
    Report,
    Blind,
    SaySpread,
    MeasureSpread,
    CursorBack,
    CursorOn,
    Draw(DrawAct),
}

/// The acts of the lens with their keys.
pub const ROWS: &[TableRow<RehearseAct>] = &[
    TableRow::new(RehearseAct::Run, "Space", "run/hold", "let time run, or hold it")
        .command("stavel rehearse SERIES"),
    TableRow::new(RehearseAct::Slower, "<", "", "a slower pace, down to a quarter"),
    TableRow::new(RehearseAct::Faster, ">", "pace", "a faster pace, up to as fast as it goes"),
    TableRow::new(RehearseAct::StepQuote, "t", "tick", "play the next quote"),
    TableRow::new(RehearseAct::StepBar, "T", "", "play so much time as a bar of the pane takes").rare(),
    TableRow::new(RehearseAct::StepMinute, "M", "", "play a minute").rare(),
    TableRow::new(
        RehearseAct::BackBar,
        "h",
        "back",
        "back by a bar: account and orders are as they were then",
    ),
    TableRow::new(
        RehearseAct::Buy,
        "b",
        "buy",
        "buy at the market, with the size and the bracket that are set",
    ),
    TableRow::new(
        RehearseAct::Sell,
        "s",
        "sell",
        "sell at the market, with the size and the bracket that are set",
    ),
    TableRow::new(
        RehearseAct::Order,
        "o",
        "order",
        "give an order: limit, stop, stop-limit, trailing, with a bracket",
    )
    .command("stavel rehearse SERIES --orders FILE"),
    TableRow::new(RehearseAct::Size, "l", "size", "say the size of deals: lots, or a risk as 1%"),
    TableRow::new(
        RehearseAct::Bracket,
        "k",
        "bracket",
        "put the next named bracket on what is opened, or none",
    ),
    TableRow::new(RehearseAct::NameBracket, "K", "", "give a bracket a name").rare(),
    TableRow::new(RehearseAct::Flat, "x", "flat", "close the position and take its orders back"),
    TableRow::new(RehearseAct::ClosePart, "X", "", "close a part of the position").rare(),
    TableRow::new(RehearseAct::Reverse, "y", "", "turn the position round").rare(),
    TableRow::new(RehearseAct::ChooseOrder, "H", "", "choose the next order that waits; Up and Down move it"),
    TableRow::new(RehearseAct::CancelOrder, "D", "orders", "take the order that is chosen back"),
    TableRow::new(RehearseAct::Money, "m", "", "say what is in the account and how orders are filled").rare(),
    TableRow::new(RehearseAct::Jump, "j", "jump", "jump to a time, also back: all is as it was then"),
    TableRow::new(RehearseAct::NextSession, "n", "", "jump to the next opening"),
    TableRow::new(RehearseAct::NextDay, "d", "next", "jump to the next session day that has data"),
    TableRow::new(RehearseAct::NextEvent, "E", "", "jump to the next event").rare(),
    TableRow::new(RehearseAct::NextLongBar, "L", "", "jump to where the next long bar begins").rare(),
    TableRow::new(RehearseAct::NextFinding, "f", "", "jump to the next finding of the last check").rare(),
    TableRow::new(RehearseAct::Bookmark, "B", "", "mark this moment, to come back to it").rare(),
    TableRow::new(RehearseAct::ToBookmark, "G", "", "go back to a marked moment").rare(),
    TableRow::new(
        RehearseAct::AddPane,
        "i",
        "panes",
        "another pane: a frame, or a series of another instrument",
    ),
    TableRow::new(RehearseAct::NextPane, "I", "", "work in the next pane").rare(),
    TableRow::new(RehearseAct::Calendar, "C", "days", "what can be played, day by day"),
    TableRow::new(
        RehearseAct::Journal,
        "J",
        "journal",
        "the journal, what it adds up to, and the equity curve",
    ),
    TableRow::new(RehearseAct::Note, "A", "", "write a line into the journal").rare(),
    TableRow::new(RehearseAct::TakeUp, "Q", "", "take an earlier rehearsal up again, just as it was").rare(),
    TableRow::new(RehearseAct::Report, "R", "", "write a report of the rehearsal, or its fills, into a file")
        .command("stavel rehearse SERIES --orders FILE --out FILE")
        .rare(),
    TableRow::new(
        RehearseAct::Blind,
        "V",
        "",
        "blind practice: a day by chance without its date and name; again to reveal it",
    )
    .rare(),
    TableRow::new(
        RehearseAct::MeasureSpread,
        "O",
        "",
        "assume the spread measured on another series, by hour of the week",
    )
    .command("stavel rehearse SERIES --spread-of SERIES")
    .rare(),
    TableRow::new(RehearseAct::SaySpread, "p", "", "set the spread of rows that have none, in points").rare(),
    TableRow::new(RehearseAct::CursorBack, ",", "", "move the cursor of what is drawn a bar back").rare(),
    TableRow::new(RehearseAct::CursorOn, ".", "", "move the cursor of what is drawn a bar on").rare(),
    TableRow::new(
        RehearseAct::Draw(DrawAct::Kind),
        "w",
        "",
        "draw: a level, line, ray, box, measured range, text",
    ),
    TableRow::new(
        RehearseAct::Draw(DrawAct::Place),
        "Enter",
        "",
        "put a point of what is drawn at the cursor",
    )
    .rare(),
    TableRow::new(RehearseAct::Draw(DrawAct::Choose), "v", "", "choose the next of what is drawn").rare(),
    TableRow::new(
        RehearseAct::Draw(DrawAct::Move),
        "a",
        "",
        "move a point of the drawing that is chosen, or its next",
    )
    .rare(),
    TableRow::new(
        RehearseAct::Draw(DrawAct::Colour),
        "c",
        "",
        "another colour for the drawing that is chosen",
    )
    .rare(),
    TableRow::new(RehearseAct::Draw(DrawAct::Words), "e", "", "words beside the drawing that is chosen")
        .rare(),
    TableRow::new(RehearseAct::Draw(DrawAct::Remove), "r", "", "take the drawing that is chosen away").rare(),
];
