//! Frames of the made-up sky of any size.

use std::error::Error;
use std::fs;
use std::path::{Path, PathBuf};

use jigsawa_core::doors::TileSink;
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::chance::normal;
use jigsawa_sky::demo::{DemoFrame, exposures, frames, take, take_exposures};
use jigsawa_sky::panels::panels;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::{Shot, Taken};
use jigsawa_sky::stars::Crowd;

type Done = Result<(), Box<dyn Error>>;

/// Takes frames and hands each over.
type Take = fn(&[DemoFrame], &mut dyn FnMut(&DemoFrame, Taken));

/// The demo's field, with more pixels.
pub struct Scene {
    folder: PathBuf,
    width: usize,
}

impl Scene {
    /// Frames of so many columns, and two thirds as many rows.
    pub fn new(folder: &Path, width: f64) -> Self {
        Self {
            folder: folder.to_owned(),
            width: width.round().index(),
        }
    }

    /// The six masters of the demo.
    pub fn masters(&self) -> Done {
        self.taken("masters", frames(), take)
    }

    /// Its broadband alone.
    pub fn broadband(&self) -> Done {
        let mut broad = frames();
        broad.retain(|f| [Filter::R, Filter::G, Filter::B].contains(&f.shot.filter));
        self.taken("masters", broad, take)
    }

    /// The three exposures of hydrogen.
    pub fn exposures(&self) -> Done {
        let mut all = exposures();
        all.retain(|f| f.shot.filter == Filter::Ha);
        self.taken("exposures", all, take_exposures)
    }

    /// Four panels of hydrogen.
    pub fn panels(&self) -> Done {
        let mut all = panels();
        all.retain(|f| f.shot.filter == Filter::Ha);
        self.taken("panels", all, take)
    }

    /// Dithered sub-frames, those that are there already left as they are.
    pub fn night(&self, count: usize) -> Done {
        let size = self.size(2.0 / 3.0)?;
        for i in 0..count {
            let path = self.folder.join(format!("night/r_{i:03}.fits"));
            if path.exists() {
                continue;
            }
            let part = |k: f64| (0.5 + k * (i.real() + 1.0)).fract() - 0.5;
            let first = frames().remove(0).shot;
            let shot = Shot {
                filter: Filter::R,
                size,
                pointing: Pointing {
                    turn_deg: 0.1 * part(0.754_877_666),
                    ..Pointing::at(
                        900.0 + 16.0 * part(0.754_877_666),
                        700.0 + 16.0 * part(0.569_840_291),
                    )
                },
                transparency: 0.9 + 0.2 * part(0.618_033_989),
                subs: 1,
                seed: 100 + i as u64,
                ..first
            };
            let plane = shot.take(&Crowd::lantern_reef(), None).plane;
            write(
                &path,
                &plane,
                Depth::Float,
                &cards("R", "Light Frame", 180.0),
            )?;
        }
        Ok(())
    }

    /// Raw darks of 16 bits.
    pub fn darks(&self, count: usize) -> Done {
        let size = self.size(2.0 / 3.0)?;
        for i in 0..count {
            let noise = |x: usize, y: usize| {
                normal((i * size.area() + y * size.width() + x) as u64, 7).single()
            };
            let plane = Plane::from_fn(size, |x, y| (500.0 + 8.0 * noise(x, y)).round());
            let path = self.folder.join(format!("darks/dark_{i:02}.fits"));
            write(
                &path,
                &plane,
                Depth::Sixteen,
                &cards("", "Dark Frame", 180.0),
            )?;
        }
        Ok(())
    }

    /// Makes room.
    pub fn clear(&self) -> Done {
        for name in ["masters", "exposures", "panels", "night", "darks", "first"] {
            let folder = self.folder.join(name);
            if folder.exists() {
                fs::remove_dir_all(folder)?;
            }
        }
        Ok(())
    }

    fn size(&self, rows: f64) -> Result<Size, Box<dyn Error>> {
        let height = (self.width.real() * rows).round().index();
        Size::new(self.width, height).ok_or_else(|| "no such size".into())
    }

    /// Demo frames with their pixels made finer.
    fn taken(&self, name: &str, mut all: Vec<DemoFrame>, take: Take) -> Done {
        for f in &mut all {
            let (w, h) = (f.shot.size.width().real(), f.shot.size.height().real());
            f.shot.size = self.size(h / w)?;
            f.shot.pointing.scale *= self.width.real() / w;
        }
        let mut done: Done = Ok(());
        take(&all, &mut |f, taken| {
            if done.is_ok() {
                let path = self.folder.join(name).join(f.file);
                let cards = cards(f.filter_card, "Master Light", f.exposure_s);
                done = write(&path, &taken.plane, Depth::Float, &cards);
            }
        });
        done
    }
}

fn cards(filter: &str, kind: &str, exposure_s: f64) -> Cards {
    let mut c = Cards::default();
    if !filter.is_empty() {
        c.text("FILTER", filter, "");
        c.text("OBJECT", "Lantern Reef", "");
    }
    c.text("IMAGETYP", kind, "");
    c.number("EXPTIME", exposure_s, "");
    c.number("EGAIN", 0.8, "");
    c.number("SATURATE", 62_000.0, "");
    c
}

fn write(path: &Path, plane: &Plane, depth: Depth, cards: &Cards) -> Done {
    fs::create_dir_all(path.parent().unwrap_or(Path::new("")))?;
    let file = Unfinished::new(path, true)?;
    let mut out = FitsWriter::create(file, plane.size(), 1, depth, cards)?;
    out.put(plane.size().rect(), &[plane.data()])?;
    out.complete()?.finish()?;
    Ok(())
}
