//! Plain tables that fit the terminal.

use comfy_table::{ContentArrangement, Table, presets::NOTHING};

use crate::ui::Ui;

/// Writes rows below a heading; columns wrap so that the table fits.
pub(crate) fn write(ui: &Ui, heading: &[&str], rows: &[Vec<String>]) {
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(ui.width).unwrap_or(80));
    table.set_header(heading.to_vec());
    for row in rows {
        table.add_row(row.clone());
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    for line in table.to_string().lines() {
        ui.line(line.trim_end());
    }
}

/// Returns text broken into lines of at most `width` characters, at spaces.
pub(crate) fn wrapped(text: &str, width: usize, indent: &str) -> String {
    let mut out = String::new();
    let mut used = 0;
    for word in text.split(' ') {
        let long = word.chars().count();
        if used > 0 && used + 1 + long > width.saturating_sub(indent.len()) {
            out.push('\n');
            out.push_str(indent);
            used = 0;
        } else if used > 0 {
            out.push(' ');
            used += 1;
        }
        out.push_str(word);
        used += long;
    }
    out
}
