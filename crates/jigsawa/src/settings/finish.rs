//! From the command line to what is wanted of each step: every default that depends on the file is settled here.

use jigsawa_core::balance::Shape;
use jigsawa_core::balance::flatten::Hints;
use jigsawa_core::finish::{
    Crop, FinishSettings, GradientSettings, Link, Quiet, SkyFrom, Tone, TonePoint, WhiteFrom,
};
use jigsawa_core::number::Convert;
use jigsawa_core::space::Rect;

use crate::cli::{
    CropArg, FinishArgs, GradientArg, LinkArg, PatchArg, PointArg, SurfaceArg, WhiteArg, hints,
    off_canvas,
};
use jigsawa_work::finish::{Kind, LinearFile, USUAL_GREEN, catalogue};
use jigsawa_work::trouble::Trouble;

/// The stiffness of a spline that is asked for.
const USUAL_STIFFNESS: f64 = 0.7;

const fn point(p: PointArg) -> TonePoint {
    match p {
        PointArg::Sigma(k) => TonePoint::Sigma(k),
        PointArg::Percent(p) => TonePoint::Percent(p),
    }
}

/// Settles what is wanted of every step.
pub fn finish_settings(args: &FinishArgs, linear: &LinearFile) -> Result<FinishSettings, Trouble> {
    let colour = linear.is_colour();
    let kind = Kind {
        colour,
        broad: colour && !linear.is_narrow() && !linear.is_mixed(),
        link: linear.link(),
    };
    for (option, rect) in rects(args) {
        inside(option, rect, linear)?;
    }
    let size = linear.file.size();
    if let Some((option, place)) = off_canvas(&args.sample, &args.protect, size) {
        return Err(Trouble::OffCanvas {
            option,
            place,
            canvas: (size.width(), size.height()),
        });
    }
    let white = match &args.white {
        WhiteArg::None => WhiteFrom::AsItIs,
        _ if !colour => WhiteFrom::AsItIs,
        WhiteArg::Auto if kind.broad => WhiteFrom::Stars,
        WhiteArg::Auto => WhiteFrom::AsItIs,
        WhiteArg::Stars => WhiteFrom::Stars,
        WhiteArg::Patch(r) => WhiteFrom::Patch(*r),
        WhiteArg::Catalogue(file) => {
            let (known, index) = catalogue::read(file)?;
            WhiteFrom::Catalogue { known, index }
        }
    };
    Ok(for_kind(args, kind, white, gradient(args)?))
}

/// Every default that depends on what the composite is.
fn for_kind(
    args: &FinishArgs,
    kind: Kind,
    white: WhiteFrom,
    gradient: Option<GradientSettings>,
) -> FinishSettings {
    let Kind {
        colour,
        broad,
        link,
    } = kind;
    FinishSettings {
        crop: match args.crop {
            CropArg::Covered => Crop::Covered,
            CropArg::None => Crop::None,
            CropArg::To(r) => Crop::To(r),
        },
        gradient,
        neutral: match args.neutral {
            PatchArg::Auto => Some(SkyFrom::Darkest),
            PatchArg::None => None,
            PatchArg::Patch(r) => Some(SkyFrom::Patch(r)),
        },
        white,
        green: match args.green {
            Some(part) if colour => part,
            None if broad => USUAL_GREEN,
            _ => 0.0,
        },
        quiet: Quiet {
            brightness: args.denoise.0,
            colour: if colour { args.denoise.1 } else { 0.0 },
        },
        deconvolution_rounds: usize::from(args.deconvolve),
        tone: Tone {
            link: match args.stretch {
                Some(LinkArg::Linked) => Link::Linked,
                Some(LinkArg::Each) => Link::Each,
                None | Some(LinkArg::None) => link,
            },
            sky: args.sky,
            black: point(args.black),
            white: args.full.map_or(TonePoint::Structure, point),
        },
        range_compression: args.compress_range,
        linear: args.stretch == Some(LinkArg::None),
        contrast: args.contrast,
        saturation: if colour { args.saturation.all } else { 1.0 },
        hues: if colour {
            args.saturation.hues.clone()
        } else {
            Vec::new()
        },
        stars: args.stars,
        sharpen: args.sharpen,
    }
}

/// The gradient that is wanted; hints without one are a slip.
fn gradient(args: &FinishArgs) -> Result<Option<GradientSettings>, Trouble> {
    let hints = hints(&args.sample, &args.protect);
    let shape = match args.gradient {
        GradientArg::None if hints != Hints::default() => {
            return Err(Trouble::Options(
                "--sample and --protect tell where sky is, and --gradient none looks for none",
            ));
        }
        GradientArg::None => return Ok(None),
        GradientArg::Auto => None,
        GradientArg::Shape(s) => Some(match s {
            SurfaceArg::Level => Shape::Level,
            SurfaceArg::Plane => Shape::Plane,
            SurfaceArg::Polynomial(degree) => Shape::Polynomial { degree },
            SurfaceArg::Spline => Shape::Spline {
                stiffness: USUAL_STIFFNESS,
            },
        }),
    };
    Ok(Some(GradientSettings { shape, hints }))
}

/// The rectangles that options name.
fn rects(args: &FinishArgs) -> Vec<(&'static str, Rect)> {
    let mut all = Vec::new();
    if let CropArg::To(r) = args.crop {
        all.push(("--crop", r));
    }
    if let PatchArg::Patch(r) = args.neutral {
        all.push(("--neutral", r));
    }
    if let WhiteArg::Patch(r) = args.white {
        all.push(("--white", r));
    }
    all
}

fn inside(option: &'static str, r: Rect, linear: &LinearFile) -> Result<(), Trouble> {
    let size = linear.file.size();
    if r.intersect(size.rect()) == r {
        return Ok(());
    }
    Err(Trouble::OutsideOf {
        option,
        rect: [r.x, r.y, r.width.whole(), r.height.whole()],
        file: linear.path.display().to_string(),
        size: (size.width(), size.height()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_work::finish::usual_settings;
    use rstest::rstest;

    #[rstest]
    #[case::broad(true, true, Link::Linked)]
    #[case::lines(true, false, Link::Each)]
    #[case::grey(false, false, Link::Linked)]
    fn options_at_their_defaults_are_what_is_usual(
        #[case] colour: bool,
        #[case] broad: bool,
        #[case] link: Link,
    ) {
        let kind = Kind {
            colour,
            broad,
            link,
        };
        let usual = usual_settings(kind);
        let args = FinishArgs::usual();
        let asked = for_kind(&args, kind, usual.white.clone(), usual.gradient.clone());
        assert_eq!(asked, usual);
    }
}
