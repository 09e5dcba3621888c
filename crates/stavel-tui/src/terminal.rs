//! The terminal: taken over, listened to, and given back whatever happens.

use std::io::stdout;
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use ratatui::crossterm::clipboard::CopyToClipboard;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture, Event,
    KeyEventKind, MouseEvent, MouseEventKind,
};
use ratatui::crossterm::execute;
use ratatui::layout::Rect;

use crate::BenchOptions;
use crate::act::{Act, Common};
use crate::app::App;
use crate::effect::Pointer;
use crate::paint::{self, Look};
use crate::screen;
use crate::spine;

/// The longest wait for a key: twenty pictures a second are smooth enough.
const BEAT: Duration = Duration::from_millis(50);

/// Runs the bench until it is left.
pub fn run(mut app: App, options: BenchOptions) -> Result<()> {
    // The terminal is asked before it is taken over: its answer comes as if it were typed.
    let look = Look::found(options.theme, options.settings.theme);
    app.settle_as(options.settings);
    let mut terminal = ratatui::try_init()
        .context("The bench needs a terminal; without one, use the commands (stavel --help)")?;
    give_back_on_panic();
    let _guard = ScreenGuard::take();
    let size = terminal.size()?;
    app.size = (size.width, size.height);
    let mut last = Instant::now();
    let mut dirty = true;
    while !app.quit {
        let now = Instant::now();
        dirty |= app.tick(now - last);
        last = now;
        if dirty {
            terminal.draw(|frame| {
                screen::draw(&app, frame);
                paint::finish(frame.buffer_mut(), look);
            })?;
            dirty = false;
        }
        if let Some(text) = app.copied.take() {
            // A terminal that keeps no clipboard passes it over.
            let _ = execute!(stdout(), CopyToClipboard::to_clipboard_from(text));
        }
        // What took its time already is not waited for again; a key is always looked for.
        let rest = BEAT.saturating_sub(now.elapsed()).max(Duration::from_millis(1));
        if event::poll(rest)? {
            dirty = true;
            // Everything that waits is taken before the next picture, so that a held key does not lag.
            loop {
                handle(&mut app, event::read()?);
                if app.quit || !event::poll(Duration::ZERO)? {
                    break;
                }
            }
        }
    }
    Ok(())
}

/// Before a panic is told that ends the program, the terminal gets back what was taken: the screen by ratatui's own hook, mouse
/// and paste here. One of a thread that reads or writes ends nothing; the bench tells it itself.
fn give_back_on_panic() {
    let (bench, give_back_and_tell) = (std::thread::current().id(), std::panic::take_hook());
    std::panic::set_hook(Box::new(move |panic| {
        if cfg!(panic = "abort") || std::thread::current().id() == bench {
            let _ = execute!(stdout(), DisableBracketedPaste, DisableMouseCapture);
            give_back_and_tell(panic);
        }
    }));
}

fn handle(app: &mut App, event: Event) {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => app.key(key),
        Event::Paste(text) => app.paste(&text),
        Event::Resize(columns, rows) => app.size = (columns, rows),
        Event::Mouse(mouse) => handle_mouse(app, mouse),
        _ => {}
    }
}

/// The wheel zooms on the spine and moves the choice elsewhere; a click or a drag chooses a time, a click a lens.
pub fn handle_mouse(app: &mut App, mouse: MouseEvent) {
    if app.overlay.is_some() {
        return;
    }
    let area = Rect { x: 0, y: 0, width: app.size.0, height: app.size.1 };
    let places = screen::places(app, area);
    let at = ratatui::layout::Position { x: mouse.column, y: mouse.row };
    let on_spine = places.spine.contains(at);
    if places.lens.contains(at) {
        let (x, y) = (mouse.column - places.lens.x, mouse.row - places.lens.y);
        let pointer = match mouse.kind {
            MouseEventKind::Down(_) => Some(Pointer::Press(x, y)),
            MouseEventKind::Drag(_) => Some(Pointer::Drag(x, y)),
            MouseEventKind::Up(_) => Some(Pointer::Release(x, y)),
            MouseEventKind::ScrollUp => Some(Pointer::WheelUp(x, y)),
            MouseEventKind::ScrollDown => Some(Pointer::WheelDown(x, y)),
            _ => None,
        };
        if pointer.is_some_and(|p| app.pointed(p, (places.lens.width, places.lens.height))) {
            return;
        }
    }
    match mouse.kind {
        MouseEventKind::ScrollUp => app.act(Act::Common(if on_spine { Common::ZoomIn } else { Common::Up })),
        MouseEventKind::ScrollDown => {
            app.act(Act::Common(if on_spine { Common::ZoomOut } else { Common::Down }));
        }
        MouseEventKind::Down(_) | MouseEventKind::Drag(_) | MouseEventKind::Up(_) if on_spine => {
            let (left, columns) = spine::axis(area.width);
            if (left..left + columns).contains(&mouse.column) {
                let to = spine::time_at(app.whole(), columns, mouse.column - left);
                app.slide(to, matches!(mouse.kind, MouseEventKind::Up(_)));
            }
        }
        MouseEventKind::Down(_) if places.bar.contains(at) => {
            if let Some(lens) = screen::lens_at(app, mouse.column, area.width) {
                app.act(Act::Open(lens));
            }
        }
        _ => {}
    }
}

/// Mouse and paste reports, turned off again when dropped.
struct ScreenGuard;

impl ScreenGuard {
    fn take() -> ScreenGuard {
        // A terminal that knows neither works without them.
        let _ = execute!(stdout(), EnableMouseCapture, EnableBracketedPaste);
        ScreenGuard
    }
}

impl Drop for ScreenGuard {
    fn drop(&mut self) {
        let _ = execute!(stdout(), DisableBracketedPaste, DisableMouseCapture);
        // On a panic the hook has left the screen already; leaving it twice would write over the report.
        if !std::thread::panicking() {
            ratatui::restore();
        }
    }
}
