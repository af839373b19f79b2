//! The sky of each channel: where it was found, the surface that was taken off, and what is left.

use jigsawa_core::finish::ChannelSky;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::robust::median;
use jigsawa_core::space::Point;
use maud::{Markup, html};

use super::FinishPage;
use crate::report::map::{Map, colour};
use crate::report::page::section;
use crate::report::picture::{As, WIDTH, figure_over, shown_row};

/// Columns of the map of what is left.
const COLUMNS: usize = 84;

/// Colours are full at this part of what the surface does, or so many errors of it: whichever is more.
const FULL: (f64, f64) = (0.25, 5.0);

const NAMES: [&str; 3] = ["red", "green", "blue"];

/// The figures of all channels that have a surface; nothing without any.
pub fn skies(p: &FinishPage<'_>) -> Markup {
    let colour = p.linear.file.planes() > 1;
    let skies = p.plan.found.skies.iter().zip(&p.overview.small).zip(NAMES);
    let shown: Vec<_> = skies
        .take(if colour { 3 } else { 1 })
        .filter(|((sky, _), _)| !sky.gradient.is_zero())
        .collect();
    html! {
        @if !shown.is_empty() {
            (section("gradient", "Gradient", &html! {
                p {
                    "The surface that was taken off, and what is left of the sky without it. Circles are the patches that it goes \
                     through; blue is darker, orange brighter than the sky. Where the sky between the circles is not white, show \
                     places with " code { "--sample add:X,Y" } " or keep them out with " code { "--protect X,Y,RADIUS" } "."
                }
                @for ((sky, plane), name) in &shown {
                    div.charts { (taken(p, sky, plane, if colour { name } else { "the picture" })) }
                }
            }))
        }
    }
}

fn taken(p: &FinishPage<'_>, sky: &ChannelSky, plane: &Plane, name: &str) -> Markup {
    let order = p.linear.facts.row_order;
    let full = (FULL.0 * f64::from(sky.span)).max(FULL.1 * f64::from(sky.error));
    let map = Map {
        canvas: plane.size(),
        order,
        full,
        patch_px: 1,
        patches: &[],
    };
    let told = format!(
        "{name}: what is left, colours full at {full:.3}; {} patches",
        sky.samples.len()
    );
    let (width, height) = (plane.size().width().real(), plane.size().height().real());
    let k = WIDTH / width;
    let over = html! {
        @for at in &sky.samples {
            @let y = if order == RowOrder::BottomUp { height - 1.0 - at.y } else { at.y };
            circle.sample cx=(format!("{:.1}", k * at.x)) cy=(format!("{:.1}", k * y)) r="3" {}
        }
    };
    html! {
        (map.of_surface(&format!("{name}: the surface"), &sky.gradient, ""))
        (figure_over(&told, (&left(sky, plane, order, full), As::Cells), map.height(), &over))
    }
}

/// Medians of blocks of the plane without its surface, against the sky's level.
fn left(sky: &ChannelSky, plane: &Plane, order: RowOrder, full: f64) -> Picture {
    let (width, height) = (plane.size().width(), plane.size().height());
    let side = width.div_ceil(COLUMNS).max(1);
    let (columns, rows) = (width.div_ceil(side), height.div_ceil(side));
    let mut picture = Picture::filled(columns, rows, [0; 3]);
    for r in 0..rows {
        for c in 0..columns {
            let (from, to) = (c * side, ((c + 1) * side).min(width));
            let mut values: Vec<f32> = (r * side..((r + 1) * side).min(height))
                .flat_map(|y| plane.row(y)[from..to].iter().copied())
                .filter(|v| v.is_finite())
                .collect();
            let value = if values.is_empty() {
                f64::NAN
            } else {
                let middle = Point::new(
                    0.5 * (from + to - 1).real(),
                    ((r.real() + 0.5) * side.real()).min(height.real() - 1.0),
                );
                f64::from(median(&mut values) - sky.level) - sky.gradient.at(middle)
            };
            picture.set(
                c.whole(),
                shown_row(r, rows, order).whole(),
                colour(value / full),
            );
        }
    }
    picture
}
