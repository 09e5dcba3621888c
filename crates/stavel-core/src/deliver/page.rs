//! A page with a chart and the table of the rows: one file that needs nothing else.

use super::records::Records;
use super::{DeliveryOrder, SideTable, TableCell};
use crate::model::Micros;
use crate::model::time::wall;
use crate::store::SeriesInfo;

/// The rows of a page, between what stands above them and below.
pub fn records(order: &DeliveryOrder, info: &SeriesInfo, rows: u64, ends: (Micros, Micros)) -> Records {
    let edition = &info.edition;
    let mut above = String::new();
    above.push_str("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\"/>\n");
    above.push_str("<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\"/>\n");
    above.push_str(&format!(
        "<title>{}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n",
        escaped(&order.series.to_string())
    ));
    above.push_str(&format!("<h1>{}</h1>\n", escaped(&order.series.to_string())));
    let (first, last) = ends;
    above.push_str(&format!(
        "<p>{rows} rows from {} to {} UTC; times on the clock {}; edition {}.</p>\n",
        wall(first),
        wall(last),
        escaped(&order.clock.to_string()),
        edition.number
    ));
    if let Some(chart) = &order.beside.chart {
        above.push_str(&format!("<figure id=\"chart\" data-rows=\"{rows}\">\n{}\n<figcaption>A click on the chart goes to its row in the table, a row marks its place on the chart.</figcaption></figure>\n", embedded(chart)));
    }
    for table in &order.beside.tables {
        above.push_str(&side_table(table));
    }
    above.push_str("<h2>Rows</h2>\n<table id=\"rows\">\n<thead><tr><th>time</th>");
    for field in &edition.fields {
        above.push_str(&format!("<th>{}</th>", field.name()));
    }
    above.push_str("</tr></thead>\n<tbody>\n");
    let below =
        format!("</tbody>\n</table>\n<script>\n//<![CDATA[\n{SCRIPT}//]]>\n</script>\n</body>\n</html>\n");
    Records::table(&edition.fields, edition.scale, &order.clock, above.into_bytes(), below.into_bytes())
}

fn side_table(table: &SideTable) -> String {
    let mut out = format!("<details><summary>{}</summary>\n<table>\n<thead><tr>", escaped(&table.name));
    for column in &table.columns {
        out.push_str(&format!("<th>{}</th>", escaped(column)));
    }
    out.push_str("</tr></thead>\n<tbody>\n");
    for row in &table.rows {
        out.push_str("<tr>");
        for cell in row {
            let text = match cell {
                TableCell::Text(text) => escaped(text),
                TableCell::Number(n) => n.to_string(),
                TableCell::Time(time) => wall(*time),
                TableCell::Empty => String::new(),
            };
            out.push_str(&format!("<td>{text}</td>"));
        }
        out.push_str("</tr>\n");
    }
    out.push_str("</tbody>\n</table></details>\n");
    out
}

/// A picture as a part of a page: without the declaration that stands before it in a file.
fn embedded(svg: &str) -> &str {
    svg.find("<svg").map_or("", |at| &svg[at..])
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

const STYLE: &str = "\
body { font-family: sans-serif; margin: 1.5em; background: #fbfaf7; color: #23252b }
figure { margin: 0 0 1em; position: relative; cursor: crosshair }
figure svg { width: 100%; height: auto; max-height: 70vh }
figcaption { font-size: 0.85em; color: #666 }
#mark { position: absolute; top: 0; bottom: 1.6em; width: 1px; background: #b3541e; pointer-events: none }
table { border-collapse: collapse; font-variant-numeric: tabular-nums; font-size: 0.9em }
th, td { text-align: right; padding: 0.1em 0.7em; border-bottom: 1px solid #e4e0d6 }
th { position: sticky; top: 0; background: #fbfaf7 }
td:first-child, th:first-child { text-align: left }
tr.here { background: #f4e3bf }
details { margin-bottom: 1em }
";

/// Links the chart and the table: rows lie along the chart from left to right.
const SCRIPT: &str = "\
const rows = document.querySelectorAll('#rows tbody tr');
const chart = document.getElementById('chart');
if (chart && rows.length) {
  const mark = document.createElement('div');
  mark.id = 'mark';
  chart.append(mark);
  const svg = chart.querySelector('svg');
  const plot = svg.querySelector('[data-plot]');
  const box = () => (plot || svg).getBoundingClientRect();
  const show = (at) => {
    const b = box(), c = chart.getBoundingClientRect();
    mark.style.left = (b.left - c.left + (at + 0.5) / rows.length * b.width) + 'px';
    document.querySelectorAll('tr.here').forEach((r) => r.classList.remove('here'));
    rows[at].classList.add('here');
  };
  svg.addEventListener('click', (e) => {
    const b = box();
    const at = Math.min(rows.length - 1, Math.max(0, Math.floor((e.clientX - b.left) / b.width * rows.length)));
    show(at);
    rows[at].scrollIntoView({ block: 'center' });
  });
  rows.forEach((row, at) => row.addEventListener('mouseenter', () => show(at)));
}
";
