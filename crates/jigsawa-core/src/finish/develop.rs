//! A plan carried out: pieces by all threads, bands of rows to whoever writes them, from the top down.
//!
//! Pieces lie on a grid that neither threads nor memory move, so the same picture gives the same bits.

use crate::number::Convert;
use std::sync::{Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;

use super::overview::Sources;
use super::plan::Plan;
use super::tile::Tile;
use crate::doors::DoorError;
use crate::frame::RowOrder;
use crate::space::Rect;

/// A piece without its border: wide, since rows are read as they lie in the file. A border of 60 pixels costs 38 %; half as many
/// rows again save a sixth of that, are no faster and take 100 megabytes more.
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
    mut band: impl FnMut(&[f32], usize) -> Result<(), E> + Send,
) -> Result<(), E> {
    let developing = Developing {
        plan,
        sources,
        starless,
        order,
        pool: Mutex::default(),
    };
    let width = plan.rect.width;
    let mut rows = vec![0.0f32; 3 * width * PIECE.1.min(plan.rect.height)];
    let mut before: Vec<Done> = Vec::new();
    let tops = (0..plan.rect.height).step_by(PIECE.1).map(Some);
    // A band is handed over while the next one is developed.
    for top in tops.chain([None]) {
        let pieces = top.map_or_else(Vec::new, |top| developing.pieces(top));
        let (handed, done) = rayon::join(
            || {
                let height = before.first().map_or(0, |d| d.piece.height);
                if height == 0 {
                    return Ok(());
                }
                let rows = &mut rows[..3 * width * height];
                developing.put_together(&before, rows, 3 * width);
                band(rows, height)
            },
            || -> Result<Vec<Done>, DoorError> {
                pieces.par_iter().map(|p| developing.piece(*p)).collect()
            },
        );
        handed?;
        let done = std::mem::replace(&mut before, done.map_err(E::from)?);
        developing.give_back(done);
    }
    Ok(())
}

/// A picture being developed.
struct Developing<'a> {
    plan: &'a Plan,
    sources: Sources<'a>,
    starless: Option<Sources<'a>>,
    order: RowOrder,
    pool: Mutex<Memory>,
}

/// Memory that nobody uses just now.
#[derive(Default)]
struct Memory {
    work: Vec<Buffers>,
    done: Vec<[Vec<f32>; 3]>,
}

/// A piece that is done.
struct Done {
    piece: Rect,
    /// What its planes hold: the piece and a border.
    rect: Rect,
    planes: [Vec<f32>; 3],
}

impl Developing<'_> {
    /// The pieces of the band that begins so many rows below the top of the picture.
    fn pieces(&self, top: usize) -> Vec<Rect> {
        let rect = self.plan.rect;
        let height = PIECE.1.min(rect.height - top);
        // The picture's first row is stored last where rows go up.
        let y = match self.order {
            RowOrder::TopDown => rect.y + top.whole(),
            RowOrder::BottomUp => rect.bottom() - (top + height).whole(),
        };
        let piece = |x: usize| Rect {
            x: rect.x + x.whole(),
            y,
            width: PIECE.0.min(rect.width - x),
            height,
        };
        (0..rect.width).step_by(PIECE.0).map(piece).collect()
    }

    fn memory(&self) -> MutexGuard<'_, Memory> {
        self.pool.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn piece(&self, piece: Rect) -> Result<Done, DoorError> {
        let (work, planes) = {
            let mut memory = self.memory();
            (memory.work.pop(), memory.done.pop())
        };
        let (mut work, mut planes) = (work.unwrap_or_default(), planes.unwrap_or_default());
        let rect = develop_piece(self.plan, self.sources, self.starless, piece, &mut work)?;
        // The piece's planes go on, others come to work with.
        std::mem::swap(&mut work.tile.planes, &mut planes);
        self.memory().work.push(work);
        Ok(Done {
            piece,
            rect,
            planes,
        })
    }

    fn give_back(&self, done: Vec<Done>) {
        let planes = done.into_iter().map(|d| d.planes);
        self.memory().done.extend(planes);
    }

    /// The rows of pieces beside each other, from the top of the picture down, `width` values long.
    fn put_together(&self, pieces: &[Done], rows: &mut [f32], width: usize) {
        rows.par_chunks_exact_mut(width)
            .enumerate()
            .for_each(|(i, mut row)| {
                for d in pieces {
                    let stored = match self.order {
                        RowOrder::TopDown => i,
                        RowOrder::BottomUp => d.piece.height - 1 - i,
                    };
                    let (here, rest) = row.split_at_mut(3 * d.piece.width);
                    d.row(stored, here);
                    row = rest;
                }
            });
    }
}

impl Done {
    /// A row of the piece without its border, its channels side by side.
    fn row(&self, row: usize, out: &mut [f32]) {
        let (piece, rect) = (self.piece, self.rect);
        let (dx, dy) = ((piece.x - rect.x).index(), (piece.y - rect.y).index());
        let at = (dy + row) * rect.width + dx;
        let [r, g, b] = self.planes.each_ref().map(|p| &p[at..at + piece.width]);
        for (((o, r), g), b) in out.chunks_exact_mut(3).zip(r).zip(g).zip(b) {
            o.copy_from_slice(&[*r, *g, *b]);
        }
    }
}

/// Memory of a piece at work.
#[derive(Default)]
struct Buffers {
    tile: Tile,
    starless: Tile,
}

/// Develops a piece. Returns what the tile then holds: the piece and a border.
fn develop_piece(
    plan: &Plan,
    sources: Sources<'_>,
    starless: Option<Sources<'_>>,
    piece: Rect,
    buffers: &mut Buffers,
) -> Result<Rect, DoorError> {
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
    Ok(buffers.tile.rect.unwrap_or(wide))
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
    let rect = develop_piece(plan, sources, starless, part, &mut buffers)?;
    let done = Done {
        piece: part,
        rect,
        planes: buffers.tile.planes,
    };
    let mut out = vec![0.0; 3 * part.area()];
    for (row, out) in out.chunks_exact_mut(3 * part.width).enumerate() {
        done.row(row, out);
    }
    Ok(out)
}
