//! The values of placed frames matched to the reference's.

use jigsawa_core::balance::{Balance, BalanceError, Member, balance_all};
use jigsawa_core::layout::{Layout, PlacementRecord};
use jigsawa_core::matching::{pairs_under, spots};
use jigsawa_core::placement::Placement;
use jigsawa_core::space::Size;
use jigsawa_core::stars::{Catalogue, Settings};
use jigsawa_core::verdict::Verdict;

use crate::account::Clock;
use crate::cache::Store;
use crate::cli::Common;
use crate::frames::Frame;
use crate::register::measure;
use crate::tell::Trouble;

/// Matches the values of frames whose places are known: what `register` leaves to be done. A balance
/// that stands there already, by hand perhaps, stays.
pub fn balance_placed(
    frames: &[Frame],
    mut layout: Layout,
    needed: &[usize],
    store: &Store,
    common: &Common,
    clock: &mut Clock,
) -> Result<Layout, Trouble> {
    let placements: Vec<Option<Placement>> = layout
        .frames
        .iter()
        .map(|f| f.placement.as_ref().and_then(PlacementRecord::placement))
        .collect();
    // Frames without a place are not looked at.
    let present: Vec<usize> = (0..frames.len())
        .filter(|i| placements[*i].is_some())
        .collect();
    let list: Vec<&Frame> = present.iter().map(|i| &frames[*i]).collect();
    let must: Vec<usize> = (0..present.len())
        .filter(|k| needed.contains(&present[*k]))
        .collect();
    let mut catalogues: Vec<Option<Catalogue>> = frames.iter().map(|_| None).collect();
    for (i, found) in
        present
            .iter()
            .zip(measure(&list, &must, &Settings::default(), store, common)?)
    {
        catalogues[*i] = found.ok();
    }
    clock.lap("stars");
    let reference = layout.reference_index().unwrap_or(0);
    let on_canvas = layout.canvas.to_reference().map(|c| c.invert());
    let of_reference = catalogues[reference]
        .as_ref()
        .map(spots)
        .unwrap_or_default();
    let pairs: Vec<Vec<(usize, usize)>> = (0..frames.len())
        .map(|i| {
            let map = placements[i]
                .as_ref()
                .and_then(|p| on_canvas.as_ref()?.then(p));
            let stars = catalogues[i].as_ref().map(spots);
            map.zip(stars).map_or_else(Vec::new, |(map, stars)| {
                pairs_under(
                    &map,
                    &of_reference,
                    &stars,
                    (frames[reference].facts.size, frames[i].facts.size),
                )
            })
        })
        .collect();
    let members: Vec<Option<Member<'_>>> = (0..frames.len())
        .map(|i| {
            Some(Member {
                catalogue: catalogues[i].as_ref()?,
                placement: placements[i].as_ref()?,
                pairs: &pairs[i],
                band: frames[i].filter.band(),
            })
        })
        .collect();
    let found = balances(&members, reference, layout.canvas.size);
    for (i, balance) in found.into_iter().enumerate() {
        let row = &mut layout.frames[i];
        match balance {
            Some(Ok(b)) if row.balance.is_none() => row.balance = Some(b),
            Some(Err(error)) if needed.contains(&i) => {
                return Err(Trouble::Balance {
                    file: frames[i].name(),
                    reference: frames[reference].name(),
                    error,
                });
            }
            Some(Err(error)) => row.verdict = Verdict::LeftOut(error.to_string()),
            Some(Ok(_)) | None => {}
        }
    }
    clock.lap("normalize");
    Ok(layout)
}

/// The balances of the frames that have a place.
pub fn balances(
    members: &[Option<Member<'_>>],
    reference: usize,
    canvas: Size,
) -> Vec<Option<Result<Balance, BalanceError>>> {
    let present: Vec<usize> = (0..members.len())
        .filter(|i| members[*i].is_some())
        .collect();
    let at = present.iter().position(|i| *i == reference).unwrap_or(0);
    let there: Vec<Member<'_>> = members.iter().flatten().copied().collect();
    let mut balanced = balance_all(&there, at, canvas).into_iter();
    members
        .iter()
        .map(|m| m.and_then(|_| balanced.next()))
        .collect()
}
