# The two commands a newcomer needs are demo and test; each sets up what it needs.
.PHONY: demo test shots bench

# Builds Stavel and opens the bench on the demo shelf.
demo:
	cargo run --release --bin stavel -- demo

# Everything the tests need, then every test.
test:
	sh scripts/need.sh tmux
	sh scripts/engines.sh
	cargo test --workspace

# Takes docs/screenshots/*.png anew, from demo data.
shots:
	sh scripts/need.sh tmux Xvfb:xvfb xterm import:imagemagick
	cargo build --release --bin stavel
	bash scripts/shots.sh target/release/stavel docs/screenshots

# Intake, frames and align, timed.
bench:
	cargo bench --workspace
