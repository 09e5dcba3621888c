//! No view breaks at any size of the terminal.

use ratatui::crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};

use crate::app::App;
use crate::rehearse_tests::rehearsing;
use crate::tests::{READ, answer, key, on_anchored_demo, on_demo, press, settle, shown, wait};

/// Draws what is open at many sizes and turns the wheel over it.
fn at_every_size(app: &mut App) {
    let kept = app.size;
    for width in [80, 81, 99, 100, 119, 120, 160, 233] {
        for height in (24..=48).step_by(3).chain([70]) {
            app.size = (width, height);
            assert!(shown(app).lines().count() == usize::from(height));
        }
        let wheel = MouseEvent {
            kind: MouseEventKind::ScrollDown,
            column: 30,
            row: 14,
            modifiers: KeyModifiers::NONE,
        };
        crate::terminal::handle_mouse(app, wheel);
        app.tick(std::time::Duration::ZERO);
    }
    app.size = kept;
}

#[test]
fn every_lens_is_drawn_at_every_size() {
    let (_dir, mut app) = on_anchored_demo();
    wait(&mut app, READ);
    for word in ["shelf", "chart", "check", "align", "splice", "frames", "compose", "deliver", "rehearse"] {
        app.open_lens(word);
        settle(&mut app);
        at_every_size(&mut app);
        for keys in [":rule", "?"] {
            press(&mut app, keys);
            at_every_size(&mut app);
            key(&mut app, KeyCode::Esc);
        }
    }
}

#[test]
fn a_rehearsal_of_one_to_four_panes_is_drawn_at_every_size() {
    let (_dir, mut app) = rehearsing();
    press(&mut app, "o");
    answer(&mut app, "buy 1 with stop 900pt target 900pt");
    for pane in ["1h", "4h", "15m"] {
        at_every_size(&mut app);
        press(&mut app, "i");
        answer(&mut app, pane);
        settle(&mut app);
    }
    at_every_size(&mut app);
    app.size = (80, 24);
    assert!(shown(&app).contains("quill:ticks 15m"), "{}", shown(&app));
    for face in ["J", "JC", "C"] {
        press(&mut app, face);
        settle(&mut app);
        at_every_size(&mut app);
    }
    // A line of an order is taken up and put down wherever the pointer is.
    app.size = (80, 24);
    shown(&app);
    for row in 0..24 {
        for kind in [
            MouseEventKind::Down(MouseButton::Left),
            MouseEventKind::Drag(MouseButton::Left),
            MouseEventKind::Up(MouseButton::Left),
        ] {
            crate::terminal::handle_mouse(
                &mut app,
                MouseEvent { kind, column: 12, row, modifiers: KeyModifiers::NONE },
            );
        }
    }
    settle(&mut app);
    assert!(shown(&app).contains("Stavel"));
}

#[test]
fn a_chain_is_drawn_at_every_size() {
    let (_dir, mut app) = on_demo();
    wait(&mut app, READ);
    app.select("BLY-2024-05@quill:1m".parse().unwrap());
    app.open_lens("compose");
    press(&mut app, "c\n");
    settle(&mut app);
    at_every_size(&mut app);
}
