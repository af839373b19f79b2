//! A palette of masters into a composite, or several into small pictures side by side.

use std::cell::Cell;
use std::path::{Path, PathBuf};

use jigsawa_core::finish::Link;
use jigsawa_core::layout::Layout;
use jigsawa_core::stars::Catalogue;
use jigsawa_formats::about::About;
use jigsawa_formats::whole::Unfinished;

use crate::account::{Account, LINEAR_PICTURE};
use crate::cli::{Common, ComposeArgs, StretchArg};
use crate::report::write_variants as variants_page;
use crate::terminal::run;
use jigsawa_work::clock::{Clock, Output, round};
use jigsawa_work::compose::{
    Bound, FLIP, Ground, Inputs, Paths, Placing, Twin, bind, cards, choose, composite, has_colours,
    lay_out, linear, luminance, strengths, variants, with_blend, with_stars, write_variants,
};
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::layout_file;
use jigsawa_work::outputs::{self, Names, finish_first};
use jigsawa_work::picture::{self, Tone};
use jigsawa_work::register::{measure, usual_stars};
use jigsawa_work::run::Run;
use jigsawa_work::seeing;
use jigsawa_work::trouble::Trouble;

/// What the account calls the picture to look at.
pub const PNG: &str = "stretched, 8 bits";

/// Where frames are to lie.
fn placing(args: &ComposeArgs) -> Placing<'_> {
    Placing {
        reference: args.placing.reference.as_deref(),
        canvas: args.placing.grid.used().map(|_| args.placing.grid.canvas()),
        layered: args.each.is_some(),
    }
}

/// Makes the composite, or the comparison, of masters.
pub fn of_masters(args: &ComposeArgs, common: &Common) -> Result<Account, Trouble> {
    let run = run(common, &args.output.out, Clock::start())?;
    let out = &args.output.out;
    let start = args.given.start(&args.frames, Filters::All, out)?;
    args.placing.refuse_if_placed(&start)?;
    let palettes = choose(&args.colours(), &start.frames)?;
    let first: Vec<Bound> = palettes
        .iter()
        .map(|p| bind(p, &start.frames, start.placed.as_ref()))
        .collect::<Result<_, _>>()?;
    let compare = palettes.len() > 1;
    let fresh = start.placed.as_ref().is_none_or(|l| !has_colours(l));
    let names = Names::new(
        args.output.place(),
        &start.frames,
        if compare {
            "variants"
        } else {
            &palettes[0].name
        },
    )?;
    let paths = compare.then(|| Paths::new(&args.output.out, &names.start, &first));
    match &paths {
        Some(paths) => names.check_these(&paths.all(), args.output.overwrite, fresh)?,
        None => names.check(args.output.overwrite, fresh, args.linear_only)?,
    }
    // A frame that a mix names alone must not be left out; of several of a filter some may.
    let mut needed: Vec<usize> = first
        .iter()
        .flat_map(|b| &b.sources)
        .filter(|s| s.len() == 1)
        .flatten()
        .copied()
        .collect();
    needed.sort_unstable();
    needed.dedup();
    let (frames, layout) = lay_out(start, &needed, &placing(args), &run)?;
    let mut bounds: Vec<Bound> = palettes
        .iter()
        .map(|p| bind(p, &frames, Some(&layout)))
        .collect::<Result<_, _>>()?;
    let mut used: Vec<usize> = bounds.iter().flat_map(Bound::inputs).collect();
    used.sort_unstable();
    used.dedup();
    let inputs = inputs(args, &layout, &frames, &used, &run)?;
    let ground = Ground {
        strengths: strengths(
            (args.lines(), &args.continuum),
            &layout,
            &frames,
            &used,
            &inputs,
        )?,
        layout: &layout,
        inputs: &inputs,
    };
    for b in &mut bounds {
        ground.strengths.complete(b);
        if args.luminance.as_deref() == Some("all") {
            *b = with_blend(b, &ground, &frames)?;
        }
    }
    run.clock.lap("lines");
    let (mut files, outliers) = if let Some(paths) = &paths {
        let made = comparison(paths, &names, &bounds, &ground, args)?;
        run.clock.lap("variants");
        (made, None)
    } else {
        one(&names, &bounds[0], &ground, args, &run)?
    };
    if fresh {
        files.push((
            layout_file::write(&names.layout, &layout, args.output.overwrite)?,
            "layout",
        ));
    }
    let mut written: Vec<Output> = Vec::new();
    finish_first(files, &mut written)?;
    let channels = if compare {
        Vec::new()
    } else {
        bounds.swap_remove(0).channels
    };
    let mut account = Account::of_layout("compose", &layout, channels, written, &run.clock);
    account.own.lines = ground.strengths.rows;
    account.own.outliers_percent = outliers.map(|part| round(100.0 * part, 3));
    Ok(account)
}

/// Small pictures of many palettes, and sheets of them.
fn comparison(
    paths: &Paths,
    names: &Names,
    bounds: &[Bound],
    ground: &Ground<'_>,
    args: &ComposeArgs,
) -> Result<Vec<(Unfinished, &'static str)>, Trouble> {
    let overwrite = args.output.overwrite;
    let luminance = luminance(args.luminance_weight, &bounds[0], ground);
    let on = (ground.layout, ground.inputs.frames);
    let shown = variants(bounds, on, &ground.strengths, luminance)?;
    let mut made = write_variants(paths, &shown, overwrite)?;
    let title = names.object.as_deref().unwrap_or(&names.start);
    let page = variants_page(&paths.page, title, &shown, overwrite)?;
    made.insert(1, (page, FLIP));
    Ok(made)
}

/// Files that are made, and the part of the values that was left out where several frames overlap.
type Made = (Vec<(Unfinished, &'static str)>, Option<f64>);

/// The full picture of one palette.
fn one(
    names: &Names,
    bound: &Bound,
    ground: &Ground<'_>,
    args: &ComposeArgs,
    run: &Run<'_>,
) -> Result<Made, Trouble> {
    let overwrite = args.output.overwrite;
    let (layout, frames) = (ground.layout, ground.inputs.frames);
    let exchange = bound.stars.is_some() || args.stars_from.is_some();
    let mut header = cards(
        bound,
        layout,
        frames,
        names.object.as_deref(),
        &done(args, ground),
        exchange,
    );
    outputs::sky_cards(layout, frames, &mut header);
    let how = luminance(args.luminance_weight, bound, ground);
    let outliers: Cell<Option<f64>> = Cell::new(None);
    let merged = |path: &Path, overwrite: bool, stars: bool| -> Result<Unfinished, Trouble> {
        let op = composite(bound, layout, &ground.strengths, how, stars).ok_or(Trouble::Nothing)?;
        let file = linear(
            path,
            overwrite,
            &header,
            (bound, &op),
            layout,
            ground.inputs,
            run,
        );
        outliers.set(outliers.get().or(op.left_out.part()));
        file
    };
    let whole = if exchange {
        let nebula = merged(&names.linear.with_extension("nebula"), true, false)?;
        let own = match &args.stars_from {
            Some(_) => None,
            None => Some(merged(&names.linear.with_extension("natural"), true, true)?),
        };
        run.clock.lap("merge");
        let stars: PathBuf = match (&args.stars_from, &own) {
            (Some(file), _) => file.clone(),
            (None, Some(own)) => own.path().to_owned(),
            (None, None) => return Err(Trouble::Nothing),
        };
        let twin = Twin {
            nebula: nebula.path(),
            stars: &stars,
            stars_name: match &args.stars_from {
                Some(file) => file.display().to_string(),
                None => "the stars' composite".to_owned(),
            },
        };
        let exchanged = with_stars(&names.linear, overwrite, &header, &twin, run)?;
        tracing::info!(
            "{} stars were taken out, {} put in",
            exchanged.out,
            exchanged.brought
        );
        run.clock.lap("stars");
        exchanged.file
    } else {
        let file = merged(&names.linear, overwrite, false)?;
        run.clock.lap("merge");
        file
    };
    let mut files = vec![(whole, LINEAR_PICTURE)];
    if args.linear_only {
        return Ok((files, outliers.get()));
    }
    let link = if exchange { Link::Linked } else { bound.link };
    let tone = match args.stretch {
        Some(StretchArg::None) => Tone::Straight,
        Some(StretchArg::Linked) => Tone::Stretched(Link::Linked),
        Some(StretchArg::Each) => Tone::Stretched(Link::Each),
        None => Tone::Stretched(link),
    };
    let begin = |path: &Path| outputs::begin(path, overwrite);
    let pictures = picture::write(
        files[0].0.path(),
        layout.canvas.row_order,
        tone,
        &About::titled(&names.title),
        begin(&names.tiff)?,
        begin(&names.png)?,
    )?;
    run.clock.lap("picture");
    let kinds = if matches!(tone, Tone::Straight) {
        ["linear 32-bit float", PNG]
    } else {
        ["stretched, 16 bits", PNG]
    };
    files.extend(pictures.into_iter().zip(kinds));
    Ok((files, outliers.get()))
}

/// What was done to lines and stars, for the history.
fn done(args: &ComposeArgs, ground: &Ground<'_>) -> Vec<String> {
    let mut lines: Vec<String> = ground
        .strengths
        .rows
        .iter()
        .map(|r| {
            let off = r
                .continuum
                .as_ref()
                .map_or(String::new(), |(f, k)| format!(", less {k} {f}"));
            format!("line {}: x {} ({}){off}", r.filter, r.factor, r.by)
        })
        .collect();
    if args.match_seeing {
        lines.push("stars made as wide as in the widest filter".to_owned());
    }
    if let Some(file) = &args.stars_from {
        lines.push(format!(
            "stars of {}",
            jigsawa_work::compose::file_name(&file.display().to_string())
        ));
    }
    lines
}

/// Frames as the merge reads them; their stars where something asks for them.
fn inputs<'a>(
    args: &ComposeArgs,
    layout: &Layout,
    frames: &'a [Frame],
    used: &[usize],
    run: &Run<'_>,
) -> Result<Inputs<'a>, Trouble> {
    let mut catalogues: Vec<Option<Catalogue>> = frames.iter().map(|_| None).collect();
    let mut wanted = Vec::new();
    if args.match_seeing {
        wanted.extend_from_slice(used);
    }
    for (_, broad) in &args.continuum {
        wanted.extend(jigsawa_work::compose::find(frames, broad, 0));
    }
    wanted.sort_unstable();
    wanted.dedup();
    if !wanted.is_empty() {
        let list: Vec<&Frame> = wanted.iter().map(|i| &frames[*i]).collect();
        for (i, found) in wanted.iter().zip(measure(&list, &[], &usual_stars(), run)?) {
            catalogues[*i] = found.ok();
        }
    }
    let softened = if args.match_seeing {
        seeing::matched(layout, frames, used, &catalogues)
    } else {
        Vec::new()
    };
    Ok(Inputs {
        frames,
        shape: args.kernel.shape(),
        softened,
        catalogues,
    })
}
