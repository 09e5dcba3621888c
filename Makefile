# The two commands a newcomer needs are demo and test; each sets up what it needs.
.PHONY: demo test shots bench

# Builds Stavel and opens the bench on the demo shelf.
demo:
	@test -x target/demo/stavel || echo "The first build takes about five minutes on two cores; later ones take seconds."
	cargo run --profile demo --bin stavel -- demo

# Everything the tests need, then every test.
test:
	sh scripts/share.sh
	sh scripts/need.sh tmux openssl xmllint:libxml2-utils qpdf pdftotext:poppler-utils
	sh scripts/engines.sh
	cargo test --workspace

# Takes docs/screenshots/*.png anew, from demo data.
shots:
	sh scripts/need.sh tmux Xvfb:xvfb xterm import:imagemagick pdftoppm:poppler-utils
	cargo build --release --bin stavel
	bash scripts/shots.sh target/release/stavel docs/screenshots

# Intake, frames and align, timed.
bench:
	cargo bench --workspace

# Has engines read the whole demo shelf and compares what they find; wants Python 3, and Java 17 for Spark.
.PHONY: engines
engines:
	cargo build --release --bin stavel
	sh scripts/engines_all.sh target/release/stavel

# Has LibreOffice, Python readers and checkers open what is delivered; installs LibreOffice where it is not there.
.PHONY: opened
opened:
	cargo build --release --bin stavel
	sh scripts/opened.sh target/release/stavel

# Fuzz targets for everything that is read from outside; wants cargo-fuzz. One after the other, 60 s each.
.PHONY: fuzz
fuzz:
	for target in text layout document recipe orders clock file; do \
	  mkdir -p fuzz/corpus/$$target; \
	  RUSTC_BOOTSTRAP=1 cargo fuzz run --sanitizer none $$target fuzz/corpus/$$target fuzz/seeds/$$target -- \
	    -max_total_time=60 -timeout=10 -rss_limit_mb=300 -max_len=4096 || exit 1; \
	done

# Installs the program, its man pages and the completions of shells, for this user or under PREFIX.
.PHONY: install
PREFIX ?= $(HOME)/.local
install:
	cargo build --release --bin stavel
	mkdir -p target/extras
	target/release/stavel man --out target/extras
	target/release/stavel completions bash > target/extras/stavel.bash
	target/release/stavel completions zsh > target/extras/_stavel
	target/release/stavel completions fish > target/extras/stavel.fish
	install -Dm755 target/release/stavel $(DESTDIR)$(PREFIX)/bin/stavel
	install -Dm644 -t $(DESTDIR)$(PREFIX)/share/man/man1 target/extras/*.1
	install -Dm644 target/extras/stavel.bash $(DESTDIR)$(PREFIX)/share/bash-completion/completions/stavel
	install -Dm644 target/extras/_stavel $(DESTDIR)$(PREFIX)/share/zsh/site-functions/_stavel
	install -Dm644 target/extras/stavel.fish $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/stavel.fish

# The tests of one crate, or of one word in it: make quick CRATE=stavel-tui WORD=palette.
.PHONY: quick
CRATE ?= stavel-core
quick:
	cargo test -p $(CRATE) --lib -- $(WORD)
