//! The page's pictures: seams, before and after, coverage and noise, crops at seams, residual vectors.

use jigsawa_core::binned;
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::mosaic::cells::Cells;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::Size;
use maud::{Markup, html};

use super::plan::COLOURS;
use crate::report::picture::{As, NOTHING, WIDTH, figure, keys, shown_row};
use crate::report::vectors::Drawing;
use jigsawa_work::mosaic::{FilterPart, Panel, Vector};

/// A field of cells as a picture of about the map's width.
fn of_cells(cells: Cells, order: RowOrder, colour: &dyn Fn(usize, usize) -> [u8; 3]) -> Picture {
    let step = cells.columns.max(cells.rows).div_ceil(840).max(1);
    let (w, h) = (cells.columns.div_ceil(step), cells.rows.div_ceil(step));
    let mut p = Picture::filled(w, h, NOTHING);
    for y in 0..h {
        for x in 0..w {
            let row = shown_row(y, h, order);
            p.set(x.whole(), row.whole(), colour(x * step, y * step));
        }
    }
    p
}

/// Which panel each place comes from.
pub fn seams(labels: &[u8], cells: Cells, order: RowOrder, panels: &[Panel]) -> Markup {
    let p = of_cells(cells, order, &|c, r| match labels[r * cells.columns + c] {
        0 => NOTHING,
        k => COLOURS[(k as usize - 1) % COLOURS.len()],
    });
    let named = panels.iter().enumerate();
    html! {
        div {
            (figure("which panel each place comes from: the same in all filters", &p, As::Cells))
            (keys(named.map(|(k, panel)| (COLOURS[k % COLOURS.len()], &panel.name))))
        }
    }
}

/// The panels side by side as the files are, each cut where it is in the mosaic.
pub fn before(part: &FilterPart, cells: Cells, order: RowOrder) -> Option<Picture> {
    let step = part.small.first()?.step;
    let (w, h) = (
        cells.canvas.width().div_ceil(step),
        cells.canvas.height().div_ceil(step),
    );
    let at = |x: usize, y: usize| {
        let cell = |v: usize, n: usize| ((v * step + step / 2) / cells.side).min(n - 1);
        let label = part.labels[cell(y, cells.rows) * cells.columns + cell(x, cells.columns)];
        let value = |k: usize| {
            let s = &part.small[k];
            let (c, r) = (x.whole() - s.window.x, y.whole() - s.window.y);
            let inside =
                c >= 0 && r >= 0 && c < s.window.width.whole() && r < s.window.height.whole();
            inside
                .then(|| s.values[r.index() * s.window.width + c.index()])
                .filter(|v| v.is_finite())
        };
        let own = (0..part.small.len())
            .filter(|k| part.panel_of[*k] + 1 == label as usize)
            .find_map(value);
        own.unwrap_or(f32::NAN)
    };
    let plane = Plane::from_fn(Size::new(w, h)?, at);
    let shade = Shade::measure(plane.data())?;
    Some(Picture::grey(&plane, order, &shade))
}

/// A joined filter, as small as the page needs it.
pub fn after(plane: &Plane, order: RowOrder) -> Option<Picture> {
    let longest = plane.size().width().max(plane.size().height());
    let small = binned(plane, longest.div_ceil(900).max(1));
    let shade = Shade::measure(small.data())?;
    Some(Picture::grey(&small, order, &shade))
}

/// A picture with its words.
pub fn shown_as(p: Option<Picture>, caption: &str) -> Markup {
    html! { @if let Some(p) = p { (figure(caption, &p, As::Surface)) } }
}

/// How many panels show each place, and how noisy what is taken from them is.
pub fn coverage(part: &FilterPart, cells: Cells, order: RowOrder) -> Markup {
    let most = 4.0;
    let count = |c: usize, r: usize| {
        let own = part.covers.iter().flatten();
        own.filter(|cover| cover.at(c, r) > 0).count()
    };
    let covered = of_cells(cells, order, &|c, r| match count(c, r) {
        0 => NOTHING,
        n => {
            let t = ((n.real() - 1.0) / (most - 1.0)).min(1.0);
            [
                (60.0 + 180.0 * t).byte(),
                (90.0 + 110.0 * t).byte(),
                (140.0 - 60.0 * t).byte(),
            ]
        }
    });
    let noise: Vec<f64> = (0..part.covers.len())
        .map(|p| {
            let own = (0..part.frames.len()).filter(|k| part.panel_of[*k] == p);
            let weights: f64 = own
                .map(|k| {
                    let b = &part.levelled.balances[k];
                    (b.scale.value * b.noise_adu).powi(-2)
                })
                .sum();
            if weights > 0.0 {
                weights.powf(-0.5)
            } else {
                0.0
            }
        })
        .collect();
    let low = noise
        .iter()
        .copied()
        .filter(|n| *n > 0.0)
        .fold(f64::INFINITY, f64::min);
    let high = noise.iter().copied().fold(0.0, f64::max).max(low * 1.0001);
    let noisy = of_cells(
        cells,
        order,
        &|c, r| match part.labels[r * cells.columns + c] {
            0 => NOTHING,
            k => {
                let t = (noise[k as usize - 1] - low) / (high - low);
                [
                    (50.0 + 190.0 * t).byte(),
                    (110.0 + 30.0 * t).byte(),
                    (150.0 - 70.0 * t).byte(),
                ]
            }
        },
    );
    html! {
        (figure("panels that show each place: blue one, the lighter the more", &covered, As::Cells))
        (figure(&format!("noise of a pixel: {low:.2} (blue) to {high:.2} (red), in the mosaic's units"), &noisy, As::Cells))
    }
}

/// Vectors that are drawn at the most.
const MOST_VECTORS: usize = 700;

/// Which way and how far the stars are off over the whole field.
pub fn vectors(all: &[Vector], canvas: Size, order: RowOrder) -> Markup {
    let step = all.len().div_ceil(MOST_VECTORS).max(1);
    let some: Vec<_> = all.iter().step_by(step).map(|v| (v.at, v.off)).collect();
    let drawing = Drawing {
        canvas,
        order,
        width: 2.0 * WIDTH,
    };
    drawing.vectors(&some, &html! {}, |times| {
        format!(
            "Which way each frame's stars are off from the others' sights of them, over the whole field, drawn {times} times as \
             long as they are"
        )
    })
}
