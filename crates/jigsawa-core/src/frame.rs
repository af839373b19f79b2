//! What is known of a frame before its pixels are looked at.

use serde::{Deserialize, Serialize};

use crate::filter::Filter;
use crate::space::Size;

/// The order in which rows are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RowOrder {
    /// The first row stored is the lowest one shown: what FITS viewers assume.
    #[default]
    BottomUp,
    /// The first row stored is the top one.
    TopDown,
}

/// What kind of image a frame is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The sky.
    #[default]
    Light,
    /// An evenly lit field.
    Flat,
    /// No light, with exposure.
    Dark,
    /// No light, no exposure.
    Bias,
    /// The dark of a flat.
    DarkFlat,
}

/// Facts of a frame, from its header, in our words.
///
/// # Guarantees
/// `exposure_s`, `pixel_um`, `focal_mm`, `gain_e_adu` and `saturation` are positive and finite when
/// they are there; `filter` is one of ours, or absent when the header's word is not known
/// (`filter_card` keeps what it said); row 0 is the first in storage. What is missing in the header
/// is `None`, never guessed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrameFacts {
    /// Pixels of one plane.
    pub size: Size,
    /// 1, or 3 for a colour image.
    pub planes: usize,
    /// Row order, as the ROWORDER card says.
    pub row_order: RowOrder,
    /// What it shows.
    pub kind: Kind,
    /// The filter, when the header's word is known.
    pub filter: Option<Filter>,
    /// The header's word for the filter.
    pub filter_card: Option<String>,
    /// Exposure of a sub-frame in seconds.
    pub exposure_s: Option<f64>,
    /// Date and time of the start, as the header writes it.
    pub date: Option<String>,
    /// The target.
    pub object: Option<String>,
    /// The camera.
    pub camera: Option<String>,
    /// Electrons for one unit of the data.
    pub gain_e_adu: Option<f64>,
    /// The camera's gain setting, in its own steps.
    pub gain_setting: Option<f64>,
    /// Pixels joined at read-out, in x and y.
    pub binning: Option<(u32, u32)>,
    /// Side of a pixel as read out.
    pub pixel_um: Option<f64>,
    /// Focal length.
    pub focal_mm: Option<f64>,
    /// Value at which pixels are full.
    pub saturation: Option<f32>,
}

impl FrameFacts {
    /// Facts of a light frame of which nothing but the size is known.
    pub const fn of_size(size: Size, planes: usize) -> Self {
        Self {
            size,
            planes,
            row_order: RowOrder::BottomUp,
            kind: Kind::Light,
            filter: None,
            filter_card: None,
            exposure_s: None,
            date: None,
            object: None,
            camera: None,
            gain_e_adu: None,
            gain_setting: None,
            binning: None,
            pixel_um: None,
            focal_mm: None,
            saturation: None,
        }
    }

    /// Arc seconds a pixel, from pixel size and focal length.
    pub fn arcsec_per_px(&self) -> Option<f64> {
        Some(206.264_806 * self.pixel_um? / self.focal_mm?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_image_scale_needs_pixel_and_focal_length() {
        let mut facts = FrameFacts::of_size(Size::new(10, 10).unwrap(), 1);
        assert_eq!(facts.arcsec_per_px(), None);
        facts.pixel_um = Some(3.76);
        facts.focal_mm = Some(530.0);
        assert!((facts.arcsec_per_px().unwrap() - 1.463).abs() < 1e-3);
    }
}
