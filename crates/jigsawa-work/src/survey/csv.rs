//! All that is known of each frame as a CSV table: one row a file, one column a quantity.

use std::path::Path;

use jigsawa_core::survey::quantity::{QUANTITIES, Value, fixed};
use jigsawa_formats::error::FileError;
use jigsawa_formats::whole::Unfinished;

use super::night::Night;
use crate::foreign::table_cell;
use crate::outputs::begin;
use crate::trouble::Trouble;

/// Writes the table, under a temporary name still. Numbers are plain, parts run from 0 to 1, what is
/// not known is empty.
pub fn write(path: &Path, night: &Night, overwrite: bool) -> Result<Unfinished, Trouble> {
    let file = begin(path, overwrite)?;
    let failed = |e: &csv::Error| Trouble::Write {
        file: path.to_owned(),
        error: FileError::Picture(e.to_string()),
    };
    let mut out = csv::Writer::from_writer(file.file().map_err(|error| Trouble::Write {
        file: path.to_owned(),
        error,
    })?);
    let head = QUANTITIES.iter().map(|q| q.name);
    out.write_record(head.chain(["date", "verdict", "reason", "doubts"]))
        .map_err(|e| failed(&e))?;
    for i in 0..night.files.len() {
        let known = night.known_of(i);
        let judged = &night.judged[i];
        let mut row: Vec<String> = QUANTITIES
            .iter()
            .map(|q| match (q.of)(&known) {
                Some(Value::Number(v)) => fixed(v, q.digits + 1),
                Some(Value::Words(text)) => table_cell(&text).into_owned(),
                None => String::new(),
            })
            .collect();
        row.push(night.facts[i].date.clone().unwrap_or_default());
        row.push(judged.verdict.word().to_owned());
        row.push(judged.verdict.reason().unwrap_or_default().to_owned());
        row.push(judged.doubts.join("; "));
        out.write_record(&row).map_err(|e| failed(&e))?;
    }
    for (file, why) in &night.unreadable {
        let mut row = vec![String::new(); QUANTITIES.len() + 4];
        row[0] = table_cell(&file.name).into_owned();
        "left out".clone_into(&mut row[QUANTITIES.len() + 1]);
        row[QUANTITIES.len() + 2] = format!("it cannot be read: {why}");
        out.write_record(&row).map_err(|e| failed(&e))?;
    }
    out.flush().map_err(|error| Trouble::Write {
        file: path.to_owned(),
        error: FileError::Io {
            doing: "cannot write the table",
            error,
        },
    })?;
    drop(out);
    Ok(file)
}
