//! Writes the small demo files into a folder: `cargo run -p stavel-feed --example write_demo -- demo`.

fn main() -> std::io::Result<()> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "demo".into());
    stavel_feed::write_demo(folder.as_ref(), &stavel_feed::DemoSpans::small(), stavel_feed::demo::SEED)
        .map(drop)
}
