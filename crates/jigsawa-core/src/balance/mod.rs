//! Balance: how a frame's values are matched to the reference's.
//!
//! A balanced value is `scale x value + surface(canvas x, y)`. The scale comes from stars that both
//! frames show (`scale`), or from the noise where filters differ so much that stars say nothing; the
//! surface from the dark patches of both (`patches`). The reference is left as it is.

mod patches;
mod scale;
mod surface;

use serde::{Deserialize, Serialize};

use crate::filter::Band;
use crate::measured::Measured;
use crate::placement::Placement;
use crate::space::Size;
use crate::stars::Catalogue;

pub use scale::{noise_scale, star_scale};
pub use surface::Surface;

/// How a frame's scale was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ScaleBy {
    /// It is the reference: 1 by definition.
    Reference,
    /// By the fluxes of common stars.
    Stars,
    /// By the noise of the sky.
    Noise,
}

/// How a frame's values are matched to the reference's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Balance {
    /// Factor on the frame's values.
    pub scale: Measured,
    /// How the factor was found.
    pub scale_by: ScaleBy,
    /// Stars behind the factor; 0 when it is not from stars.
    pub stars: usize,
    /// What is added after scaling, over the canvas.
    pub surface: Surface,
    /// The frame's own sky level, before balancing.
    pub sky_adu: f64,
    /// The frame's own noise, before balancing.
    pub noise_adu: f64,
    /// Scatter of the dark patches around the surface, in the reference's pixel noise.
    pub residual_sigma: f64,
    /// Dark patches behind the surface.
    pub patches: usize,
}

impl Balance {
    /// The balance of the reference: nothing changes.
    pub fn identity(catalogue: &Catalogue) -> Self {
        Self::unchanged(
            f64::from(catalogue.sky.typical_level()),
            f64::from(catalogue.sky.typical_sigma()),
        )
    }

    /// The balance that changes nothing, for a frame with this sky and noise.
    pub const fn unchanged(sky_adu: f64, noise_adu: f64) -> Self {
        Self {
            scale: Measured::exact(1.0),
            scale_by: ScaleBy::Reference,
            stars: 0,
            surface: Surface::zero(),
            sky_adu,
            noise_adu,
            residual_sigma: 0.0,
            patches: 0,
        }
    }
}

/// A frame as balancing sees it.
#[derive(Debug, Clone, Copy)]
pub struct Member<'a> {
    /// Its stars and sky.
    pub catalogue: &'a Catalogue,
    /// Where it lies.
    pub placement: &'a Placement,
    /// Pairs of (star of the reference, star of this frame).
    pub pairs: &'a [(usize, usize)],
    /// One line or many colours.
    pub band: Band,
}

/// Why a frame cannot be balanced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BalanceError {
    /// No patch of sky is covered by both frames.
    #[error("it shares no patch of sky with the reference")]
    NoCommonSky,
    /// Its noise or that of the reference is zero.
    #[error("its sky has no noise to compare")]
    NoNoise,
}

/// Balances all frames against `members[reference]`, on a canvas of this size.
///
/// Frames of the reference's band are scaled to it: broad ones by stars, narrow ones by noise. Of the
/// other band, broad frames are scaled by stars to the one of them with the most clean stars, and
/// that one by noise: so colours stay true to the stars within the band.
pub fn balance_all(
    members: &[Member<'_>],
    reference: usize,
    canvas: Size,
) -> Vec<Result<Balance, BalanceError>> {
    let anchor = anchor(members, reference);
    // The anchor's own way to the reference comes first; others chain to it.
    let link = if anchor == reference {
        Ok((Measured::exact(1.0), ScaleBy::Reference, 0))
    } else {
        scale::noise_scale(members[reference].catalogue, members[anchor].catalogue)
            .map(|s| (s, ScaleBy::Noise, 0))
            .ok_or(BalanceError::NoNoise)
    };
    (0..members.len())
        .map(|i| {
            if i == reference {
                return Ok(Balance::identity(members[i].catalogue));
            }
            let by_noise = || {
                scale::noise_scale(members[reference].catalogue, members[i].catalogue)
                    .map(|s| (s, ScaleBy::Noise, 0))
                    .ok_or(BalanceError::NoNoise)
            };
            let (scale, by, stars) = if members[i].band == Band::Narrow {
                by_noise()?
            } else if i == anchor {
                link?
            } else {
                // Too few common stars: the noise is the next best.
                match scale::star_scale(&members[anchor], &members[i]) {
                    Some((ratio, used)) => (link?.0.times(ratio), ScaleBy::Stars, used),
                    None => by_noise()?,
                }
            };
            let fitted = patches::surface(&members[reference], &members[i], scale.value, canvas)
                .ok_or(BalanceError::NoCommonSky)?;
            Ok(Balance {
                scale,
                scale_by: by,
                stars,
                surface: fitted.surface,
                sky_adu: f64::from(members[i].catalogue.sky.typical_level()),
                noise_adu: f64::from(members[i].catalogue.sky.typical_sigma()),
                residual_sigma: fitted.residual_sigma,
                patches: fitted.patches,
            })
        })
        .collect()
}

/// The broad frame that the other broad frames are scaled to.
fn anchor(members: &[Member<'_>], reference: usize) -> usize {
    if members[reference].band == Band::Broad {
        return reference;
    }
    (0..members.len())
        .filter(|i| members[*i].band == Band::Broad)
        .max_by_key(|i| (members[*i].catalogue.clean().count(), usize::MAX - i))
        .unwrap_or(reference)
}
