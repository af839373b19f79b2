//! Frames of different seeing, their stars made as wide as the widest.

use jigsawa_core::layout::Layout;
use jigsawa_core::stars::Catalogue;

use crate::frames::Frame;
use crate::pixels::Pixels;

/// A frame with softened stars.
pub type Softened<'a> = jigsawa_core::merge::Softened<Pixels<'a>>;

/// Of the frames that are used, those whose stars are narrower on the canvas than the widest, softened.
pub fn matched<'a>(
    layout: &Layout,
    frames: &'a [Frame],
    used: &[usize],
    catalogues: &[Option<Catalogue>],
) -> Vec<Option<Softened<'a>>> {
    // Frame pixels for a pixel of the canvas: widths are compared on the canvas.
    let pixels = |i: usize| -> Option<f64> {
        let placement = layout.frames[i].placement.as_ref()?.placement()?;
        Some(placement.area_ratio(layout.canvas.size.centre()).sqrt())
    };
    let widest = used
        .iter()
        .filter_map(|i| Some(catalogues[*i].as_ref()?.fwhm_px / pixels(*i)?))
        .fold(0.0, f64::max);
    (0..frames.len())
        .map(|i| {
            if !used.contains(&i) {
                return None;
            }
            let stars = catalogues[i].as_ref()?;
            Softened::new(frames[i].source(), stars, widest * pixels(i)?)
        })
        .collect()
}
