//! A sheet as Markdown, and as a page that prints on paper.

use super::{Part, Sheet};
use crate::text::visible;

/// Text as the content of an HTML element.
fn html(text: &str) -> String {
    visible(text).replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The stylesheet of the page: black on white, no cell cut in two by the end of a page.
pub const STYLE: &str = "body{font:15px/1.45 sans-serif;color:#111;background:#fff;max-width:60rem;margin:2rem auto;padding:0 1rem}\
h1{font-size:1.5rem;margin-bottom:.2rem}h2{font-size:1.1rem;margin-top:1.6rem}table{border-collapse:collapse;width:100%}\
th,td{border:1px solid #999;padding:.35rem .5rem;text-align:left;vertical-align:top}th{background:#eee}\
td:nth-child(2),td:nth-child(4){font:12px/1.45 monospace;overflow-wrap:anywhere;white-space:pre-wrap}td:nth-child(1){width:18%}td:nth-child(3){width:26%}\
tr{break-inside:avoid}.empty{color:#777}@page{margin:18mm}@media print{body{margin:0;max-width:none}}";

impl Sheet {
    /// As Markdown (CommonMark with tables). Values of several lines stand in blocks below their table.
    pub fn markdown(&self) -> String {
        let cell = |s: &str| visible(s).replace('|', "\\|");
        let mut out = format!("# Handover sheet: {}\n\n{}\n", cell(&self.title), cell(&self.state));
        for part in &self.parts {
            let Part { heading, rows, .. } = part;
            let (proof, line) = if part.has_checks() { (" check |", "---|") } else { ("", "") };
            out.push_str(&format!("\n## {heading}\n\n| what | value | why |{proof}\n|---|---|---|{line}\n"));
            let mut blocks = String::new();
            for r in rows {
                let value = match r.value.as_str() {
                    "" => "…".to_owned(),
                    text if text.contains('\n') => {
                        blocks.push_str(&format!("\n{}:\n\n```\n{}\n```\n", cell(&r.label), text.trim_end().replace('`', "'")));
                        "see below".to_owned()
                    }
                    text => format!("`{}`", cell(text).replace('`', "'")),
                };
                let check: Vec<String> = r.check.lines().map(|c| format!("`{}`", cell(c).replace('`', "'"))).collect();
                let check = if part.has_checks() { format!(" {} |", check.join(", then ")) } else { String::new() };
                out.push_str(&format!("| {} | {value} | {} |{check}\n", cell(&r.label), cell(&r.why)));
            }
            out.push_str(&blocks);
        }
        out.push_str("\n## Then it is tried\n\n");
        for (i, s) in self.steps.iter().enumerate() {
            out.push_str(&format!("{}. {}\n", i + 1, cell(s)));
        }
        out
    }

    /// As an HTML document that needs nothing else, for printing.
    pub fn html(&self) -> String {
        let mut out = format!(
            "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title><style>{STYLE}</style></head><body>\
             <p>Handover sheet</p><h1>{title}</h1><p>{}</p>",
            html(&self.state),
            title = html(&self.title),
        );
        for part in &self.parts {
            let Part { heading, rows, .. } = part;
            let proof = if part.has_checks() { "<th>check</th>" } else { "" };
            out.push_str(&format!("<h2>{}</h2><table><tr><th>what</th><th>value</th><th>why</th>{proof}</tr>", html(heading)));
            for r in rows {
                let lines: Vec<String> = r.value.lines().map(html).collect();
                let value =
                    if r.value.is_empty() { "<span class=\"empty\">to be filled in</span>".to_owned() } else { lines.join("\n") };
                let lines: Vec<String> = r.check.lines().map(html).collect();
                let check = if part.has_checks() { format!("<td>{}</td>", lines.join("\n")) } else { String::new() };
                out.push_str(&format!("<tr><td>{}</td><td>{value}</td><td>{}</td>{check}</tr>", html(&r.label), html(&r.why)));
            }
            out.push_str("</table>");
        }
        let steps: String = self.steps.iter().map(|s| format!("<li>{}</li>", html(s))).collect();
        out.push_str(&format!("<h2>Then it is tried</h2><ol>{steps}</ol></body></html>"));
        out
    }
}
