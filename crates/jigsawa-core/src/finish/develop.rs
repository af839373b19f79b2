//! A plan carried out: pieces by all threads, bands of rows to whoever writes them, from the top down.
//!
//! Pieces lie on a grid that neither threads nor memory move, so the same picture gives the same bits.

use crate::number::Convert;
use std::sync::Mutex;

use rayon::prelude::*;

use super::look::Sources;
use super::plan::Plan;
use super::tile::Tile;
use crate::doors::DoorError;
use crate::frame::RowOrder;
use crate::space::Rect;

/// A piece without its border: wide, since rows are read as they lie in the file; a border of 60 pixels costs 38 %.
const PIECE: (usize, usize) = (1024, 512);

/// Rows of a band that is handed over.
pub const BAND_ROWS: usize = PIECE.1;

/// Carries out a plan. `band` gets the rows of the picture for the eye from its top down, [`BAND_ROWS`] at a time,
/// red, green and blue of each pixel from 0 to 1; it tells whether to go on. `starless` is the same picture without its
/// stars, where the plan makes them fewer.
///
/// # Errors
/// When the picture cannot be read, or what `band` says.
pub fn develop<E: From<DoorError> + Send>(
    plan: &Plan,
    sources: Sources<'_>,
    starless: Option<Sources<'_>>,
    order: RowOrder,
    mut band: impl FnMut(&[f32], usize) -> Result<(), E>,
) -> Result<(), E> {
    let rect = plan.rect;
    let pool: Mutex<Vec<Buffers>> = Mutex::default();
    let mut rows = vec![0.0f32; 3 * rect.width * PIECE.1.min(rect.height)];
    for top in (0..rect.height).step_by(PIECE.1) {
        let height = PIECE.1.min(rect.height - top);
        // The picture's first row is stored last where rows go up.
        let y = match order {
            RowOrder::TopDown => rect.y + top.whole(),
            RowOrder::BottomUp => rect.bottom() - (top + height).whole(),
        };
        let pieces: Vec<Rect> = (0..rect.width)
            .step_by(PIECE.0)
            .map(|x| Rect {
                x: rect.x + x.whole(),
                y,
                width: PIECE.0.min(rect.width - x),
                height,
            })
            .collect();
        let done: Result<Vec<Buffers>, DoorError> = pieces
            .par_iter()
            .map(|piece| {
                let pooled = pool
                    .lock()
                    .unwrap_or_else(std::sync::PoisonError::into_inner)
                    .pop();
                let mut buffers = pooled.unwrap_or_default();
                develop_piece(plan, sources, starless, *piece, &mut buffers)?;
                Ok(buffers)
            })
            .collect();
        let done = done.map_err(E::from)?;
        let out = &mut rows[..3 * rect.width * height];
        out.par_chunks_mut(3 * rect.width)
            .enumerate()
            .for_each(|(i, out)| {
                let stored = match order {
                    RowOrder::TopDown => i,
                    RowOrder::BottomUp => height - 1 - i,
                };
                for (piece, buffers) in pieces.iter().zip(&done) {
                    let from = 3 * (piece.x - rect.x).index();
                    buffers.row(*piece, stored, &mut out[from..from + 3 * piece.width]);
                }
            });
        band(out, height)?;
        pool.lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .extend(done);
    }
    Ok(())
}

/// Memory of a piece at work.
#[derive(Default)]
struct Buffers {
    tile: Tile,
    starless: Tile,
}

impl Buffers {
    /// A row of the piece without its border, its channels side by side.
    fn row(&self, piece: Rect, row: usize, out: &mut [f32]) {
        let Some(rect) = self.tile.rect else { return };
        let (dx, dy) = ((piece.x - rect.x).index(), (piece.y - rect.y).index());
        let at = (dy + row) * rect.width + dx;
        let [r, g, b] = self
            .tile
            .planes
            .each_ref()
            .map(|p| &p[at..at + piece.width]);
        for (((o, r), g), b) in out.chunks_exact_mut(3).zip(r).zip(g).zip(b) {
            o.copy_from_slice(&[*r, *g, *b]);
        }
    }
}

fn develop_piece(
    plan: &Plan,
    sources: Sources<'_>,
    starless: Option<Sources<'_>>,
    piece: Rect,
    buffers: &mut Buffers,
) -> Result<(), DoorError> {
    let border = plan.border();
    let wide = Rect {
        x: piece.x - border.whole(),
        y: piece.y - border.whole(),
        width: piece.width + 2 * border,
        height: piece.height + 2 * border,
    };
    let to_screen = |sources, tile: &mut Tile| -> Result<(), DoorError> {
        plan.load(sources, wide, tile)?;
        plan.linear(tile);
        tile.cut(border - Plan::screen_border());
        if !plan.ends_linear {
            plan.to_screen(tile);
        }
        Ok(())
    };
    to_screen(sources, &mut buffers.tile)?;
    if let Some(starless) = starless {
        to_screen(starless, &mut buffers.starless)?;
        plan.with_fewer_stars(&mut buffers.tile, &buffers.starless);
    }
    if !plan.ends_linear {
        plan.last_steps(&mut buffers.tile);
    }
    Ok(())
}

/// A rectangle of the picture for the eye alone, for looking at: its channels side by side, as they are stored.
///
/// # Errors
/// When the picture cannot be read.
pub fn develop_part(
    plan: &Plan,
    sources: Sources<'_>,
    starless: Option<Sources<'_>>,
    part: Rect,
) -> Result<Vec<f32>, DoorError> {
    let mut buffers = Buffers::default();
    develop_piece(plan, sources, starless, part, &mut buffers)?;
    let mut out = vec![0.0; 3 * part.area()];
    for (row, out) in out.chunks_exact_mut(3 * part.width).enumerate() {
        buffers.row(part, row, out);
    }
    Ok(out)
}
