//! Pictures of frames that were read.

use jigsawa_core::binned;
use jigsawa_core::finish::{Link, Shade, Stretch};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::matching::{MatchSettings, match_frames, spots};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Placement;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::{Picture, circle, difference, number};
use jigsawa_core::resample::resampled;
use jigsawa_core::stars::DetectError;

use super::read::{Scale, Shown};
use jigsawa_work::trouble::Trouble;

/// Stars that get a mark; more would hide the frame.
pub const MOST_MARKS: usize = 300;

const MARK: [u8; 3] = [255, 176, 60];

/// Every so many pixels tell the levels.
fn stride(plane: &Plane) -> usize {
    (plane.data().len() / 60_000).max(1)
}

/// One picture for each frame.
pub fn pictures(shown: &[Shown], own_stretch: bool) -> Result<Vec<Picture>, Trouble> {
    let mut common: Option<Shade> = None;
    shown
        .iter()
        .map(|s| {
            let empty = || Trouble::Measure {
                file: s.path.display().to_string(),
                error: DetectError::NoData,
            };
            let order = s.facts.row_order;
            let picture = if let [r, g, b] = s.planes.as_slice() {
                let sample: Vec<[f32; 3]> = (0..r.data().len())
                    .step_by(stride(r))
                    .map(|i| [r.data()[i], g.data()[i], b.data()[i]])
                    .collect();
                let stretch = Stretch::measure(&sample, Link::Linked).ok_or_else(empty)?;
                Picture::colour([r, g, b], order, &stretch).ok_or_else(empty)?
            } else {
                let plane = &s.planes[0];
                let shade = match common {
                    Some(shade) if !own_stretch => shade,
                    _ => {
                        let sample: Vec<f32> = plane
                            .data()
                            .iter()
                            .step_by(stride(plane))
                            .copied()
                            .collect();
                        Shade::measure(&sample).ok_or_else(empty)?
                    }
                };
                common = Some(shade);
                Picture::grey(plane, order, &shade)
            };
            Ok(marked(s, picture))
        })
        .collect()
}

/// The picture at its size on the screen, with marks if they are wanted.
fn marked(s: &Shown, picture: Picture) -> Picture {
    let mut picture = match s.scale {
        Scale::Larger(n) if n > 1 => picture.enlarged(n),
        _ => picture,
    };
    let Some(found) = s.stars.as_ref().filter(|_| s.marks) else {
        return picture;
    };
    let zoom = s.scale.zoom();
    let radius = (2.2 * found.fwhm_px * zoom).max(7.0);
    for (i, star) in found.stars.iter().take(MOST_MARKS).enumerate() {
        let x = (star.at.x - s.region.x.real() + 0.5) * zoom - 0.5;
        let y = (star.at.y - s.region.y.real() + 0.5) * zoom - 0.5;
        let inside =
            x >= 0.0 && y >= 0.0 && x < picture.width().real() && y < picture.height().real();
        if !inside {
            continue;
        }
        let y = match s.facts.row_order {
            RowOrder::BottomUp => picture.height().real() - 1.0 - y,
            RowOrder::TopDown => y,
        };
        circle(&mut picture, (x, y), radius, MARK);
        let at = (
            (x + 0.8 * radius).whole() + 1,
            (y - 0.8 * radius).whole() - 8,
        );
        number(&mut picture, i + 1, at, 2, MARK);
    }
    picture
}

/// Each frame less the first. Frames whose stars meet the first's are brought onto it before, so that
/// dithers and a meridian flip do not hide what really differs; others are compared as they lie.
pub fn differences(shown: &[Shown], warnings: &mut Vec<String>) -> Result<Vec<Picture>, Trouble> {
    let base = &shown[0];
    let green = |s: &Shown| usize::from(s.planes.len() == 3);
    shown[1..]
        .iter()
        .map(|s| {
            let placed = on_base(base, s);
            if placed.is_none() {
                warnings.push(format!(
                    "'{}' is compared as it lies: its stars do not match those of '{}'",
                    s.path.display(),
                    base.path.display()
                ));
            }
            let mine = placed.as_ref().unwrap_or(&s.planes[green(s)]);
            let theirs = &base.planes[green(base)];
            let picture =
                difference(mine, theirs, base.facts.row_order).ok_or_else(|| Trouble::Sizes {
                    file: s.path.display().to_string(),
                    other: base.path.display().to_string(),
                    sizes: [s.facts.size, base.facts.size].map(|z| (z.width(), z.height())),
                })?;
            // Marks are those of the first frame, which all lie on.
            Ok(marked(base, picture))
        })
        .collect()
}

/// A frame on the pixels of the first one's region, when their stars match.
fn on_base(base: &Shown, s: &Shown) -> Option<Plane> {
    let matched = match_frames(
        &spots(base.stars.as_ref()?),
        &spots(s.stars.as_ref()?),
        (base.facts.size, s.facts.size),
        &MatchSettings::default(),
    )
    .ok()?;
    let map: Placement = matched.map.retyped();
    let saturation = s.facts.saturation.unwrap_or(f32::INFINITY);
    let placed = resampled(s.whole.as_ref()?, &map, base.region, saturation)?;
    Some(match base.scale {
        Scale::Smaller(n) => binned(&placed, n),
        Scale::Larger(_) => placed,
    })
}
