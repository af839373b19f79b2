//! Where the results of a mosaic go.

use std::path::{Path, PathBuf};

use super::begun::Begun;
use crate::cli::{MosaicArgs, OutputArgs};
use crate::commands::register::layout_title;
use jigsawa_work::mosaic::Paths;
use jigsawa_work::outputs::{Names, slug};
use jigsawa_work::trouble::Trouble;

/// All files.
pub(super) struct Targets {
    pub(super) folder: PathBuf,
    pub(super) page: PathBuf,
    pub(super) plan_png: PathBuf,
    pub(super) plan_svg: PathBuf,
    pub(super) overwrite: bool,
    /// Is the layout that is given one of them? A plan's own may be gone on with in the same folder.
    own: bool,
    pub(super) names: Names,
}

impl Targets {
    pub(super) fn new(begun: &Begun, args: &MosaicArgs) -> Result<Self, Trouble> {
        // What is added goes beside the layout, under its names.
        let (output, overwrite) = if let Some(path) = &args.into {
            let title = layout_title(path);
            let name = title.strip_suffix("-mosaic").unwrap_or(&title).to_owned();
            let output = OutputArgs {
                out: path.parent().unwrap_or(Path::new("")).to_owned(),
                name: Some(name),
                overwrite: true,
            };
            (output, true)
        } else {
            let output = OutputArgs {
                out: args.output.out.clone(),
                name: args.output.name.clone().or_else(|| Self::name_of(begun)),
                overwrite: args.output.overwrite,
            };
            (output, args.output.overwrite)
        };
        let names = Names::new(output.place(), &begun.frames, "mosaic")?;
        let file = |ending: &str| output.out.join(format!("{}-mosaic{ending}", names.start));
        let own =
            begun.kept.is_some() && args.into.is_none() && same_file(&begun.layout, &names.layout);
        Ok(Self {
            folder: output.out.clone(),
            page: file(".html"),
            plan_png: file("-plan.png"),
            plan_svg: file("-plan.svg"),
            overwrite: overwrite || own,
            own,
            names,
        })
    }

    /// Makes the folder and checks that no result would be replaced unasked.
    pub(super) fn check(&self, begun: &Begun, args: &MosaicArgs) -> Result<(), Trouble> {
        let all = self.all(begun, args);
        let all: Vec<&PathBuf> = all.iter().collect();
        let overwrite = args.output.overwrite || args.into.is_some();
        self.names.check_these(&all, overwrite, !self.own)
    }

    /// The name that a layout's file has.
    fn name_of(begun: &Begun) -> Option<String> {
        begun.kept.as_ref()?;
        let title = layout_title(&begun.layout);
        Some(title.strip_suffix("-mosaic").unwrap_or(&title).to_owned())
    }

    pub(super) fn of(&self, filter: &str, args: &MosaicArgs) -> Paths {
        let file = |ending: &str| {
            self.folder.join(format!(
                "{}-{}-mosaic{ending}",
                self.names.start,
                slug(filter)
            ))
        };
        Paths {
            frame: file(".fits"),
            map: args.map.then(|| file("-map.fits")),
            picture: (!args.linear_only).then(|| file(".png")),
        }
    }

    /// The frames that the filters will be.
    pub(super) fn merged(&self, begun: &Begun, args: &MosaicArgs) -> Vec<PathBuf> {
        let all = filters(begun).into_iter();
        all.map(|filter| self.of(filter, args).frame).collect()
    }

    /// What must not be there already.
    fn all(&self, begun: &Begun, args: &MosaicArgs) -> Vec<PathBuf> {
        let goes_on = begun.kept.is_some() && same_file(&begun.layout, &self.names.layout);
        let mut all = Vec::new();
        if !goes_on {
            all.extend([self.plan_png.clone(), self.plan_svg.clone()]);
        }
        if args.plan {
            return all;
        }
        for filter in filters(begun) {
            let paths = self.of(filter, args);
            all.push(paths.frame);
            all.extend(paths.map);
            all.extend(paths.picture);
        }
        if !args.no_report {
            all.push(self.page.clone());
        }
        all
    }
}

/// The filters of all frames.
fn filters(begun: &Begun) -> Vec<&str> {
    let mut filters: Vec<&str> = begun.frames.iter().map(|f| f.filter.name()).collect();
    filters.sort_unstable();
    filters.dedup();
    filters
}

fn same_file(a: &Path, b: &Path) -> bool {
    let real = |p: &Path| p.canonicalize().ok();
    real(a).is_some() && real(a) == real(b)
}
