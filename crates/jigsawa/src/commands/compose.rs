//! `jigsawa compose`: masters of several filters into a colour picture, or into small pictures of many palettes.

use std::path::Path;

use jigsawa_core::colour::mix::Mix;
use jigsawa_formats::png::write_all;
use jigsawa_work::outputs::{self, finish_first};
use jigsawa_work::trouble::Trouble;

use crate::account::{Account, Ending};
use crate::cli::{Common, ComposeArgs, GivenArgs, PlacingArgs};
use crate::commands::composite::of_masters;
use crate::commands::raw::from_raw;
use crate::commands::swatches::swatches;
use crate::terminal::{palette_table, say, tell};

pub use super::composite::PNG;

/// Runs the command and prints its account.
pub fn compose(args: &ComposeArgs, common: &Common) -> Result<Ending, Trouble> {
    if args.list_palettes {
        return show_palettes(args, common);
    }
    Ok(tell(&make(args, common)?, common))
}

/// Makes the composite, or the comparison; of raw lights masters first.
pub fn make(args: &ComposeArgs, common: &Common) -> Result<Account, Trouble> {
    let Some(raw) = from_raw(args, common)? else {
        return of_masters(args, common);
    };
    // Masters lie on one canvas already.
    let with_masters = ComposeArgs {
        frames: raw.masters,
        given: GivenArgs::default(),
        placing: PlacingArgs::default(),
        ..args.clone()
    };
    let mut account = of_masters(&with_masters, common)?;
    account.outputs.extend(raw.outputs);
    account.warnings.extend(raw.warnings);
    Ok(account)
}

/// The palettes as a table, and as a picture where a folder is named.
fn show_palettes(args: &ComposeArgs, common: &Common) -> Result<Ending, Trouble> {
    let folder = &args.output.out;
    let mut outputs = Vec::new();
    if folder != Path::new(".") {
        outputs::make_folder(folder)?;
        let path = folder.join("palettes.png");
        let picture = swatches().ok_or(Trouble::Nothing)?;
        let file = outputs::begin(&path, args.output.overwrite)?;
        let file = write_all(
            file,
            (picture.width(), picture.height()),
            &[picture.rgb()],
            1.0,
        )
        .map_err(|error| Trouble::Write { file: path, error })?;
        finish_first(vec![(file, "palettes on the made-up sky")], &mut outputs)?;
    }
    if common.json {
        let rows: Vec<_> = jigsawa_core::colour::Palette::shown()
            .iter()
            .map(|p| {
                let mixes: Vec<&str> = p.mixes().map(Mix::text).collect();
                serde_json::json!({ "palette": p.name, "needs": p.needs(), "about": p.about, "mixes": mixes })
            })
            .collect();
        let document = serde_json::json!({
            "jigsawa": env!("CARGO_PKG_VERSION"), "command": "compose", "palettes": rows, "outputs": outputs,
            "warnings": [],
        });
        say(&format!("{document:#}"));
    } else if !common.quiet {
        say(&palette_table());
        for o in &outputs {
            say(&format!("\nwrote      {}  {}", o.file, o.kind));
        }
    }
    Ok(Ending::Whole)
}
