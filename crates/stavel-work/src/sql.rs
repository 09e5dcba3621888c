//! The shelf as views for engines: all series of the current editions, brought to one scale.

use std::fmt::Write;

use stavel_core::Result;
use stavel_core::model::columns::shape_of;
use stavel_core::model::price::MAX_DECIMALS;
use stavel_core::model::{Field, Shape};
use stavel_core::store::{SegmentFormat, SeriesInfo, Shelf};

/// An engine whose SQL is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum SqlDialect {
    /// DuckDB.
    Duckdb,
    /// Apache Spark.
    Spark,
    /// Apache DataFusion.
    Datafusion,
}

/// Decimals that every number has at least.
const LEAST_DECIMALS: u8 = 9;

/// Columns of the view of bars beside the time.
const BARS: [Field; 15] = [
    Field::Open,
    Field::High,
    Field::Low,
    Field::Close,
    Field::Volume,
    Field::Spread,
    Field::SpreadOpen,
    Field::SpreadHigh,
    Field::SpreadLow,
    Field::BidVolume,
    Field::AskVolume,
    Field::TickCount,
    Field::OpenInterest,
    Field::AdjustedClose,
    Field::Origin,
];

/// Columns of the view of ticks beside the time.
const TICKS: [Field; 8] = [
    Field::Bid,
    Field::Ask,
    Field::BidVolume,
    Field::AskVolume,
    Field::Last,
    Field::Volume,
    Field::Taker,
    Field::Origin,
];

/// Statements, divided by `;`, that make the views `bars`, `ticks` and `instruments` over the shelf as it is now.
/// `root` is where the engine finds the shelf, where that is not its folder.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn shelf_sql(shelf: &Shelf, dialect: SqlDialect, root: Option<&str>) -> Result<String> {
    let folder = std::path::absolute(shelf.root())?;
    let root =
        root.map_or_else(|| folder.to_string_lossy().into_owned(), |r| r.trim_end_matches('/').to_owned());
    let series = shelf.series()?;
    let decimals = series.iter().map(|s| s.edition.scale.price.max(s.edition.scale.volume));
    let decimals = decimals.chain([LEAST_DECIMALS]).max().unwrap_or(LEAST_DECIMALS).min(MAX_DECIMALS);
    let mut writer = SqlWriter { shelf, dialect, root, decimals, out: String::new() };
    writer.begin();
    let (mut bars, mut ticks, mut left) = (Vec::new(), Vec::new(), Vec::new());
    for info in &series {
        match shape_of(&info.edition.fields) {
            Shape::Bars => bars.push(info),
            Shape::Quotes | Shape::Trades => ticks.push(info),
            Shape::Depth | Shape::Layered => left.push(info.name.to_string()),
        }
    }
    if !left.is_empty() {
        let _ = writeln!(
            writer.out,
            "-- Not in the views: {} (order books, and layers of ticks and bars).",
            left.join(", ")
        );
    }
    writer.view("bars", &BARS, &bars)?;
    writer.view("ticks", &TICKS, &ticks)?;
    writer.instruments()?;
    Ok(writer.out)
}

struct SqlWriter<'s> {
    shelf: &'s Shelf,
    dialect: SqlDialect,
    root: String,
    decimals: u8,
    out: String,
}

impl SqlWriter<'_> {
    fn begin(&mut self) {
        let _ = writeln!(
            self.out,
            "-- All series of the current editions. Prices, volumes and spreads are DECIMAL(38, {}), spreads are\n\
             -- differences of prices. Times are UTC, but as written where afloat.",
            self.decimals
        );
        if self.dialect == SqlDialect::Spark {
            // Times of series whose clock is not known have no zone: they are shown as they stand.
            self.out.push_str("SET spark.sql.session.timeZone = UTC;\n");
        }
    }

    fn decimal(&self) -> String {
        format!("DECIMAL(38, {})", self.decimals)
    }

    fn view(&mut self, name: &str, fields: &[Field], series: &[&SeriesInfo]) -> Result<()> {
        let mut selects = Vec::new();
        for info in series {
            selects.extend(self.selects(info, fields)?);
        }
        if selects.is_empty() {
            selects.push(self.no_rows(fields));
        }
        let create = match self.dialect {
            SqlDialect::Spark => "CREATE OR REPLACE TEMPORARY VIEW",
            _ => "CREATE OR REPLACE VIEW",
        };
        let _ = writeln!(self.out, "{create} {name} AS\n{};", selects.join("\nUNION ALL\n"));
        Ok(())
    }

    /// The rows of one series: one select for the files whose absent values are nulls, one for older ones.
    fn selects(&mut self, info: &SeriesInfo, fields: &[Field]) -> Result<Vec<String>> {
        let mut kinds: [Vec<(i64, String)>; 2] = Default::default();
        for segment in self.shelf.segments(&info.edition)? {
            let kind = usize::from(segment.format == SegmentFormat::Zeros);
            kinds[kind].push((segment.id, format!("{}/{}", self.root, self.shelf.path_within(&segment))));
        }
        let mut out = Vec::new();
        for (kind, files) in kinds.iter().enumerate().filter(|(_, files)| !files.is_empty()) {
            let columns = self.columns(info, fields, kind == 1);
            match self.dialect {
                SqlDialect::Duckdb => {
                    let files: Vec<String> = files.iter().map(|(_, path)| quoted(path)).collect();
                    let from = format!("read_parquet([{}], hive_partitioning = false)", files.join(", "));
                    out.push(format!("SELECT {columns} FROM {from}"));
                }
                SqlDialect::Spark => {
                    for (_, path) in files {
                        out.push(format!("SELECT {columns} FROM parquet.`{}`", path.replace('`', "``")));
                    }
                }
                SqlDialect::Datafusion => {
                    for (id, path) in files {
                        let _ = writeln!(
                            self.out,
                            "CREATE EXTERNAL TABLE IF NOT EXISTS rows_{id} STORED AS PARQUET LOCATION {};",
                            quoted(path)
                        );
                        out.push(format!("SELECT {columns} FROM rows_{id}"));
                    }
                }
            }
        }
        Ok(out)
    }

    fn columns(&self, info: &SeriesInfo, fields: &[Field], zeros_are_absent: bool) -> String {
        let name = &info.name;
        let frame = if name.built { format!("{}.built", name.frame) } else { name.frame.to_string() };
        let time = match self.dialect {
            // A cast would go through the zone of the session.
            SqlDialect::Duckdb if !info.is_afloat() => "make_timestamp(epoch_us(time))".to_owned(),
            SqlDialect::Duckdb => "time".to_owned(),
            SqlDialect::Spark => "CAST(time AS TIMESTAMP)".to_owned(),
            SqlDialect::Datafusion => "arrow_cast(time, 'Timestamp(Microsecond, None)')".to_owned(),
        };
        let mut out = format!(
            "{} AS instrument, {} AS source, {} AS frame, {} AS side, {} AS afloat, {time} AS time",
            quoted(&name.instrument),
            quoted(&name.source),
            quoted(&frame),
            quoted(&name.side.to_string()),
            info.is_afloat()
        );
        for field in fields {
            let column = match info.edition.fields.contains(field) {
                false => format!("CAST(NULL AS {})", self.type_of(*field)),
                true => self.cast(*field, info.edition.scale.price, zeros_are_absent),
            };
            let _ = write!(out, ", {column} AS {}", name_in_views(*field));
        }
        out
    }

    fn type_of(&self, field: Field) -> String {
        match field.is_price() || field.is_volume() || field.is_spread() {
            true => self.decimal(),
            false => "BIGINT".to_owned(),
        }
    }

    fn cast(&self, field: Field, price_decimals: u8, zeros_are_absent: bool) -> String {
        let column = match zeros_are_absent && field == Field::Spread {
            true => format!("NULLIF({}, 0)", field.name()),
            false => field.name().to_owned(),
        };
        if !field.is_spread() {
            return format!("CAST({column} AS {})", self.type_of(field));
        }
        // A spread is kept in points: the product has the decimals of both.
        let point = format!("0.{}", "0".repeat(usize::from(price_decimals)));
        let point = if price_decimals == 0 { "1".into() } else { format!("{}1", &point[..point.len() - 1]) };
        format!(
            "CAST(CAST({column} AS DECIMAL(18, 0)) * CAST('{point}' AS DECIMAL(18, {})) AS {})",
            self.decimals,
            self.decimal()
        )
    }

    fn no_rows(&self, fields: &[Field]) -> String {
        let time = if self.dialect == SqlDialect::Datafusion {
            "arrow_cast(NULL, 'Timestamp(Microsecond, None)')"
        } else {
            "CAST(NULL AS TIMESTAMP)"
        };
        let words = "CAST(NULL AS VARCHAR(64))";
        let words = if self.dialect == SqlDialect::Spark { "CAST(NULL AS STRING)" } else { words };
        let mut out = format!(
            "SELECT {words} AS instrument, {words} AS source, {words} AS frame, {words} AS side, false AS afloat, {time} AS time"
        );
        for field in fields {
            let _ = write!(out, ", CAST(NULL AS {}) AS {}", self.type_of(*field), name_in_views(*field));
        }
        out + " WHERE 1 = 0"
    }

    fn instruments(&mut self) -> Result<()> {
        let keys = [
            "kind",
            "base",
            "quote",
            "decimals",
            "tick_size",
            "tick_value",
            "contract_size",
            "commission",
            "clock",
            "hours",
        ];
        let text = if self.dialect == SqlDialect::Spark { "STRING" } else { "VARCHAR(1000)" };
        let mut selects = Vec::new();
        for instrument in self.shelf.instruments()? {
            let value = |key: &str| {
                let known = instrument.values.get(key).filter(|v| !v.is_empty());
                let value = known.map_or("NULL".to_owned(), |v| quoted(v));
                let kind = match key {
                    "decimals" => "BIGINT".to_owned(),
                    "tick_size" | "tick_value" | "contract_size" => self.decimal(),
                    _ => text.to_owned(),
                };
                format!("CAST({value} AS {kind}) AS {key}")
            };
            let values: Vec<String> = keys.iter().map(|key| value(key)).collect();
            selects.push(format!("SELECT {} AS instrument, {}", quoted(&instrument.name), values.join(", ")));
        }
        if selects.is_empty() {
            selects.push(format!("SELECT CAST(NULL AS {text}) AS instrument WHERE 1 = 0"));
        }
        let create = match self.dialect {
            SqlDialect::Spark => "CREATE OR REPLACE TEMPORARY VIEW",
            _ => "CREATE OR REPLACE VIEW",
        };
        let _ = writeln!(self.out, "{create} instruments AS\n{};", selects.join("\nUNION ALL\n"));
        Ok(())
    }
}

/// The name of a column: the side of a trade is not that of its series.
fn name_in_views(field: Field) -> &'static str {
    if field == Field::Taker { "taker" } else { field.name() }
}

/// A text as SQL writes it.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}
