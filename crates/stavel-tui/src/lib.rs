//! The bench.
use std::path::Path;
pub fn run(_: &Path) -> anyhow::Result<()> {
    Ok(())
}
pub fn rehearse(_: &Path, _: &stavel_core::model::SeriesName, _: Option<&str>) -> anyhow::Result<()> {
    Ok(())
}
