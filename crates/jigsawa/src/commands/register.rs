//! `jigsawa register`: frames of one field onto one canvas.

use crate::account::{Account, Clock, Ending, Output};
use crate::cli::{Common, RegisterArgs};
use crate::commands::folder_name;
use crate::frames::{Filters, open_all};
use crate::layout_file;
use crate::outputs::{begin, make_folder, plain_name, slug};
use crate::placed_frames;
use crate::register::{Settled, register as place};
use crate::tell::Trouble;
use crate::terminal::{account_text, say};

/// Runs the command and prints its account.
pub fn register(args: &RegisterArgs, common: &Common) -> Result<Ending, Trouble> {
    let mut clock = Clock::start();
    let frames = open_all(&args.frames, &args.filters, Filters::Any)?;
    let object = frames.iter().find_map(|f| f.facts.object.clone());
    let start = match &args.output.name {
        Some(name) => plain_name(name)?,
        None => object
            .clone()
            .or_else(|| folder_name(&frames))
            .map(|n| slug(&n))
            .filter(|n| !n.is_empty())
            .unwrap_or_else(|| "frames".to_owned()),
    };
    let path = args.output.out.join(format!("{start}.layout.json"));
    if path.exists() && !args.output.overwrite {
        return Err(Trouble::Exist(vec![path]));
    }
    make_folder(&args.output.out)?;
    begin(&path, args.output.overwrite)?;
    let targets = args
        .write_frames
        .as_ref()
        .map(|folder| placed_frames::targets(folder, &frames, args.output.overwrite))
        .transpose()?;
    let settled = Settled {
        reference: args.reference.as_deref(),
        canvas: args.canvas,
        needed: &[],
        balance: false,
    };
    let layout = place(&frames, &settled, common, &mut clock)?;
    let mut outputs = Vec::new();
    if let Some(targets) = targets {
        outputs = placed_frames::write(&targets, &layout, &frames, args.output.overwrite, common)?;
        clock.lap("frames");
    }
    let file = layout_file::write(&path, &layout, args.output.overwrite)?;
    let done = file.finish().map_err(|error| Trouble::Write {
        file: path.clone(),
        error,
    })?;
    outputs.insert(
        0,
        Output {
            file: done.display().to_string(),
            kind: "layout",
        },
    );
    let account = Account::new("register", &layout, Vec::new(), outputs, clock);
    if common.json {
        say(&serde_json::to_string_pretty(&account).unwrap_or_default());
    } else if !common.quiet {
        say(account_text(&account).trim_end());
    }
    Ok(account.ending())
}
