//! Prints docs/keys.md: `cargo run -p stavel-tui --example key_list > docs/keys.md`.

fn main() {
    println!(
        "# Keys\n\nMade from the bench's own table of acts; a test keeps it true.\n\n{}",
        stavel_tui::key_list()
    );
}
