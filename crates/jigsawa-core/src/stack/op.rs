//! The stack as a method of a merge.

use std::cell::RefCell;

use super::stacked::{PLANES, Stacked};
use super::work::{Known, REACH, Work};
use crate::merge::{Band, Row, TileOp};

thread_local! {
    static KNOWN: RefCell<Known> = RefCell::default();
}

impl TileOp for Stacked {
    fn planes(&self) -> usize {
        PLANES * self.groups.len()
    }

    fn reach(&self) -> usize {
        REACH
    }

    /// A row alone: a band of one.
    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        let width = out.first().map_or(0, |o| o.len());
        self.run_band(&Band::of_row(*row, width), out);
    }

    fn run_band(&self, band: &Band<'_>, out: &mut [&mut [f32]]) {
        KNOWN.with_borrow_mut(|known| {
            let mut without = std::mem::take(&mut known.without);
            let values = self.without_streaks(band, &mut without);
            for (group, out) in self.groups.iter().zip(out.chunks_exact_mut(PLANES)) {
                let work = Work {
                    group,
                    band,
                    values: &values[group.inputs.clone()],
                    around: band.around(),
                    stacked: self,
                };
                work.run(known, out);
            }
            known.without = without;
        });
    }
}

#[cfg(test)]
mod tests;
