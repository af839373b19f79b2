//! Nodes of the fields' splines, worked out once in a process: frames of one field show the same places again and again, and
//! the formulas take longer than all the rest of a frame.

use jigsawa_core::number::Convert;
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::fields::{Field, Light};

/// A node as it is kept.
pub(crate) type Node = [f32; 6];

/// Nodes along a tile's side.
const SIDE: usize = 16;

/// Tiles that are kept, 6 kilobytes each. A wide mosaic of one field has some 5000.
const MOST: usize = 24_000;

/// A field, and the column and the row of a tile on its plane.
type Place = (Field, i64, i64);

/// A tile's nodes, row after row.
type Tile = Arc<Vec<Node>>;

/// The tiles of all fields.
pub(crate) static TILES: Tiles = Tiles(Mutex::new(None));

/// Tiles that were worked out.
pub(crate) struct Tiles(Mutex<Option<HashMap<Place, Tile>>>);

impl Tiles {
    /// The nodes of a rectangle, row after row: of so many columns and rows from one on. `light` is the field's at a node.
    pub(crate) fn nodes(
        &self,
        field: Field,
        (from_x, from_y): (i64, i64),
        (columns, rows): (usize, usize),
        light: impl Fn(i64, i64) -> Light + Sync,
    ) -> Vec<Node> {
        let side = SIDE.whole();
        let covering =
            |from: i64, n: usize| from.div_euclid(side)..=(from + n.whole() - 1).div_euclid(side);
        let (across, down) = (covering(from_x, columns), covering(from_y, rows));
        let places: Vec<Place> = down
            .flat_map(|r| across.clone().map(move |c| (field, c, r)))
            .collect();
        let tiles: Vec<Tile> = places.par_iter().map(|p| self.tile(*p, &light)).collect();
        let mut all = vec![[0.0; 6]; columns * rows];
        for ((_, c, r), tile) in places.iter().zip(&tiles) {
            let (left, top) = (c * side, r * side);
            let here = |from: i64, first: i64, n: usize| {
                from.max(first)..(from + side).min(first + n.whole())
            };
            let (xs, ys) = (here(left, from_x, columns), here(top, from_y, rows));
            let width = (xs.end - xs.start).index();
            for y in ys {
                let into = (y - from_y).index() * columns + (xs.start - from_x).index();
                let of = (y - top).index() * SIDE + (xs.start - left).index();
                all[into..into + width].copy_from_slice(&tile[of..of + width]);
            }
        }
        all
    }

    fn kept(&self) -> MutexGuard<'_, Option<HashMap<Place, Tile>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A tile, the one that is kept if there is one.
    fn tile(&self, place: Place, light: impl Fn(i64, i64) -> Light) -> Tile {
        if let Some(tile) = self.kept().as_ref().and_then(|all| all.get(&place)) {
            return Arc::clone(tile);
        }
        // Nobody waits meanwhile: two may work out the same one, and come to the same.
        let (_, c, r) = place;
        let side = SIDE.whole();
        let node = |i: usize| {
            let (x, y) = (c * side + (i % SIDE).whole(), r * side + (i / SIDE).whole());
            light(x, y).map(Convert::single)
        };
        let made: Tile = Arc::new((0..SIDE * SIDE).map(node).collect());
        let mut all = self.kept();
        let all = all.get_or_insert_default();
        if all.len() >= MOST {
            all.clear();
        }
        all.insert(place, Arc::clone(&made));
        made
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rectangle_has_its_own_nodes_whatever_was_kept() {
        let light = |x: i64, y: i64| [x.real(), y.real(), 0.0, 0.0, 0.0, 1.0];
        let tiles = Tiles(Mutex::new(None));
        for (from, shape) in [
            ((-70, -3), (140, 5)),
            ((-1, 60), (3, 10)),
            ((5, -3), (1, 1)),
        ] {
            let got = tiles.nodes(Field::Dust, from, shape, light);
            for (i, node) in got.iter().enumerate() {
                let (x, y) = (
                    from.0 + (i % shape.0).whole(),
                    from.1 + (i / shape.0).whole(),
                );
                assert_eq!((node[0], node[1]), (x.single(), y.single()));
            }
        }
    }
}
