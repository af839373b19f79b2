//! The sky on large scales: its gradient, and how uneven it is beyond that.

use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, median, quantile};
use crate::space::{FramePx, Point};
use crate::stars::SkyMesh;

/// The plane through the sky's cells: its change over the frame; and what the cells have beyond it, in
/// noise widths.
pub(crate) fn gradient(sky: &SkyMesh) -> (f64, f64) {
    let cells: Vec<_> = sky.cells().collect();
    let noise = f64::from(sky.typical_sigma());
    let (columns, rows) = sky.shape();
    if cells.len() < 6 || columns < 2 || rows < 2 {
        return (0.0, 0.0);
    }
    let (mut kept, mut fit) = (vec![true; cells.len()], [0.0; 3]);
    // Cells full of stars or nebula are left out in rounds.
    for _ in 0..4 {
        let chosen = cells.iter().zip(&kept).filter(|(_, k)| **k);
        let Some(next) = fit_plane(chosen.map(|(c, _)| (c.at, f64::from(c.level)))) else {
            break;
        };
        fit = next;
        let off = |at: Point<FramePx>, level: f32| {
            (f64::from(level) - fit[0] - fit[1] * at.x - fit[2] * at.y).single()
        };
        let mut sizes: Vec<f32> = cells.iter().map(|c| off(c.at, c.level).abs()).collect();
        let bar = 2.5 * median(&mut sizes) * MAD_TO_SIGMA.single();
        for (k, c) in kept.iter_mut().zip(&cells) {
            *k = off(c.at, c.level) <= bar;
        }
    }
    let mut residuals: Vec<f32> = cells
        .iter()
        .map(|c| (f64::from(c.level) - fit[0] - fit[1] * c.at.x - fit[2] * c.at.y).single())
        .collect();
    let low = f64::from(quantile(&mut residuals, 0.16));
    let high = f64::from(quantile(&mut residuals, 0.84));
    let last = cells.last().map_or((0.0, 0.0), |c| (c.at.x, c.at.y));
    let change = (fit[1] * last.0).abs() + (fit[2] * last.1).abs();
    (
        change,
        if noise > 0.0 {
            0.5 * (high - low) / noise
        } else {
            0.0
        },
    )
}

/// Level at (0, 0) and slopes of the plane through points, by least squares.
fn fit_plane(points: impl Iterator<Item = (Point<FramePx>, f64)>) -> Option<[f64; 3]> {
    let mut m = nalgebra::Matrix3::zeros();
    let mut v = nalgebra::Vector3::zeros();
    for (at, level) in points {
        let row = nalgebra::Vector3::new(1.0, at.x, at.y);
        m += row * row.transpose();
        v += row * level;
    }
    m.cholesky().map(|c| c.solve(&v).into())
}
