//! A table: columns of words and of numbers, rows, and rows of words under them.

use maud::{Markup, Render, html};

/// A column.
#[derive(Debug, Clone)]
struct Column {
    name: String,
    /// Numbers stand to the right.
    number: bool,
}

/// A table in the making.
pub struct Table {
    columns: Vec<Column>,
    rows: Vec<Markup>,
}

impl Table {
    /// A table with the headings of its columns; those of numbers begin with `#`.
    pub fn new<T: AsRef<str>>(columns: &[T]) -> Self {
        let column = |heading: &T| {
            let heading = heading.as_ref();
            let number = heading.strip_prefix('#');
            Column {
                name: number.unwrap_or(heading).to_owned(),
                number: number.is_some(),
            }
        };
        Self {
            columns: columns.iter().map(column).collect(),
            rows: Vec::new(),
        }
    }

    /// A row of `class`; cells that are missing at its end are empty.
    pub fn row(&mut self, class: &str, cells: Vec<Markup>) {
        let missing = self.columns.len().saturating_sub(cells.len());
        let cells = cells.into_iter().chain((0..missing).map(|_| html! {}));
        let columns = &self.columns;
        self.rows.push(html! {
            tr class=[(!class.is_empty()).then_some(class)] {
                @for (c, cell) in columns.iter().zip(cells) { td class=[c.number.then_some("n")] { (cell) } }
            }
        });
    }

    /// A row whose last words take all columns behind its cells.
    pub fn row_saying(&mut self, class: &str, cells: Vec<Markup>, words: impl Render) {
        let rest = self.columns.len().saturating_sub(cells.len()).max(1);
        let columns = &self.columns;
        self.rows.push(html! {
            tr class=[(!class.is_empty()).then_some(class)] {
                @for (c, cell) in columns.iter().zip(cells) { td class=[c.number.then_some("n")] { (cell) } }
                td.verdict colspan=(rest) { (words) }
            }
        });
    }
}

impl Render for Table {
    fn render(&self) -> Markup {
        html! {
            div.wide {
                table {
                    thead { tr { @for c in &self.columns { th class=[c.number.then_some("n")] { (c.name) } } } }
                    tbody { @for row in &self.rows { (row) } }
                }
            }
        }
    }
}

/// Cells of a row: anything that can be shown.
macro_rules! cells {
    ($($cell:expr),* $(,)?) => { vec![$(maud::html! { ($cell) }),*] };
}
pub(crate) use cells;
