//! A bench without a terminal, for measuring how long it takes to draw and to answer a key.

use std::path::Path;
use std::time::{Duration, Instant};

use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

use crate::app::App;
use crate::paint::{Look, finish};
use crate::screen;

/// A bench that is drawn into memory.
pub struct UnseenBench {
    app: App,
    buffer: Buffer,
}

impl UnseenBench {
    /// Opens the bench on the shelf in a folder, on a screen of so many columns and rows.
    pub fn open(root: &Path, (columns, rows): (u16, u16)) -> UnseenBench {
        let mut app = App::new(root.to_owned());
        app.size = (columns, rows);
        UnseenBench { app, buffer: Buffer::empty(Rect { x: 0, y: 0, width: columns, height: rows }) }
    }

    /// Presses keys one after the other: each a character, Enter for a line feed, Left for `←`.
    pub fn press(&mut self, keys: &str) {
        for c in keys.chars() {
            let code = match c {
                '\n' => KeyCode::Enter,
                '←' => KeyCode::Left,
                c => KeyCode::Char(c),
            };
            self.app.key(KeyEvent::new(code, KeyModifiers::NONE));
        }
    }

    /// Lets threads answer for so long.
    pub fn wait(&mut self, time: Duration) {
        let end = Instant::now() + time;
        while Instant::now() < end {
            self.app.tick(Duration::from_millis(5));
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Lets threads answer until none is at work.
    pub fn settle(&mut self) {
        let mut quiet = 0;
        while quiet < 3 {
            let is_idle = self.app.threads.is_idle();
            self.app.tick(Duration::from_millis(1));
            quiet = if is_idle && self.app.threads.is_idle() { quiet + 1 } else { 0 };
            std::thread::sleep(Duration::from_micros(200));
        }
    }

    /// True while a job runs.
    pub fn is_busy(&self) -> bool {
        self.app.running.is_some()
    }

    /// The words of the lenses, in the order of their keys.
    pub fn lenses(&self) -> Vec<&'static str> {
        self.app.lenses.iter().map(|lens| lens.word()).collect()
    }

    /// Lets a rehearsal run until its rows end; it is drawn between beats, as in a terminal. How long it took.
    pub fn play_to_the_end(&mut self) -> Duration {
        let begun = Instant::now();
        loop {
            self.app.tick(Duration::from_millis(50));
            self.draw();
            let text: String = self.buffer.content.iter().map(ratatui::buffer::Cell::symbol).collect();
            if text.contains("the rows end here") {
                return begun.elapsed();
            }
        }
    }

    /// What a person waits for after a key: time passes on the bench, and it is drawn with its colours.
    pub fn draw(&mut self) {
        self.app.tick(Duration::from_millis(5));
        self.buffer.reset();
        screen::draw_bench(&self.app, self.buffer.area, &mut self.buffer);
        finish(&mut self.buffer, Look::default());
    }
}
