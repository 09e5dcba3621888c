#!/bin/sh
# Prints how much of the Rust code is tests: files of tests, and what stands behind `mod tests` in others.
set -eu
find crates fuzz/targets -name '*.rs' -not -path '*/target/*' -print0 | xargs -0 awk '
    FNR == 1 { inside = FILENAME ~ /(\/tests\/|tests\.rs$|trials\.rs$|\/benches\/|\/fuzz\/)/ }
    /^(pub\(crate\) )?mod tests( \{|;)/ { if (!inside) { inside = 1; tests++ } }
    { all++; if (inside) tests++ }
    END { printf "tests: %d of %d Rust lines, %.1f %%\n", tests, all, tests * 100 / all }'
