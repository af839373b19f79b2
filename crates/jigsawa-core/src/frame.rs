//! What is known of a frame before its pixels are looked at.

use serde::{Deserialize, Serialize};

use crate::filter::Filter;
use crate::space::Size;
use crate::wcs::Wcs;

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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
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

impl Kind {
    /// The kind in a word.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Light => "light",
            Self::Flat => "flat",
            Self::Dark => "dark",
            Self::Bias => "bias",
            Self::DarkFlat => "dark-flat",
        }
    }
}

/// On which side of the pier the telescope stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Pier {
    /// East, looking west.
    East,
    /// West, looking east.
    West,
}

/// Facts of a frame, from its header, in our words.
///
/// # Guarantees
/// `exposure_s`, `pixel_um`, `focal_mm`, `gain_e_adu`, `wcs_arcsec`, `airmass` and `saturation` are
/// positive and finite when they are there; `filter` is one of ours, or absent when the header's word is not known
/// (`filter_card` keeps what it said); row 0 is the first in storage. What is missing in the header
/// is `None`, never guessed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
// Facts are as many as there are; none excludes another.
#[allow(clippy::struct_excessive_bools)]
pub struct FrameFacts {
    /// Pixels of one plane.
    pub size: Size,
    /// 1, or 3 for a colour image.
    pub planes: usize,
    /// Row order, as the ROWORDER card says.
    pub row_order: RowOrder,
    /// What it shows.
    pub kind: Kind,
    /// A card says what it shows; else it is taken for a light.
    pub kind_by_card: bool,
    /// It is a stack of others already.
    pub master: bool,
    /// Bits of a value in the file, negative for floating point.
    pub bits: Option<i32>,
    /// Colours of the pixels in front of a colour camera's chip, as in RGGB.
    pub colour_pattern: Option<String>,
    /// The filter, when the header's word is known.
    pub filter: Option<Filter>,
    /// No card names the filter: it was read from the file's name.
    pub filter_by_name: bool,
    /// The header's word for the filter.
    pub filter_card: Option<String>,
    /// Exposure of a sub-frame in seconds.
    pub exposure_s: Option<f64>,
    /// All exposures in it together, in seconds.
    pub total_s: Option<f64>,
    /// Date and time of the start, as the header writes it.
    pub date: Option<String>,
    /// The same in seconds since 1970 (UTC).
    pub start_s: Option<f64>,
    /// The evening that the night began with (YYYY-MM-DD), when the header tells local time or the
    /// site's longitude.
    pub evening: Option<String>,
    /// The target.
    pub object: Option<String>,
    /// The camera.
    pub camera: Option<String>,
    /// The telescope.
    pub telescope: Option<String>,
    /// Electrons for one unit of the data.
    pub gain_e_adu: Option<f64>,
    /// The camera's gain setting, in its own steps.
    pub gain_setting: Option<f64>,
    /// The camera's offset setting, in its own steps.
    pub offset_setting: Option<f64>,
    /// Sensitivity of a photographic camera.
    pub iso: Option<f64>,
    /// How the camera is read out, in its own words.
    pub readout: Option<String>,
    /// Temperature of the chip that was asked for, in degrees Celsius.
    pub set_celsius: Option<f64>,
    /// Temperature that the chip had.
    pub celsius: Option<f64>,
    /// Pixels joined at read-out, in x and y.
    pub binning: Option<(u32, u32)>,
    /// Side of a pixel as read out.
    pub pixel_um: Option<f64>,
    /// Focal length.
    pub focal_mm: Option<f64>,
    /// Arc seconds for a pixel by the header's WCS.
    pub wcs_arcsec: Option<f64>,
    /// Where its pixels lie on the sky, by the header.
    pub wcs: Option<Wcs>,
    /// Altitude of the frame's middle above the horizon, in degrees.
    pub altitude_deg: Option<f64>,
    /// Air on the way, in units of that in the zenith.
    pub airmass: Option<f64>,
    /// Hour angle in hours, from -12 to 12, west positive.
    pub hour_angle_h: Option<f64>,
    /// Side of the pier.
    pub pier: Option<Pier>,
    /// The rotator's angle, in degrees.
    pub rotator_deg: Option<f64>,
    /// Position of the focuser, in its own steps.
    pub focus: Option<f64>,
    /// Value at which pixels are full.
    pub saturation: Option<f32>,
    /// Share of its values, in a sample, that are infinite or beyond anything that is measured: they count as missing.
    pub absurd: f32,
    /// It is a picture of another format whose values are made for a screen, as far as a sample tells.
    pub stretched: bool,
    /// Share of its pixels that have one exact value and hang together with its edge, and that value: they count as
    /// missing.
    pub blank: Option<(f32, f32)>,
    /// Images in its file besides it, which was taken as the first.
    pub other_images: usize,
}

impl FrameFacts {
    /// Facts of a light frame of which nothing but the size is known.
    pub const fn of_size(size: Size, planes: usize) -> Self {
        Self {
            size,
            planes,
            row_order: RowOrder::BottomUp,
            kind: Kind::Light,
            kind_by_card: false,
            master: false,
            bits: None,
            colour_pattern: None,
            filter: None,
            filter_by_name: false,
            filter_card: None,
            exposure_s: None,
            total_s: None,
            date: None,
            start_s: None,
            evening: None,
            object: None,
            camera: None,
            telescope: None,
            gain_e_adu: None,
            gain_setting: None,
            offset_setting: None,
            iso: None,
            readout: None,
            set_celsius: None,
            celsius: None,
            binning: None,
            pixel_um: None,
            focal_mm: None,
            wcs_arcsec: None,
            wcs: None,
            altitude_deg: None,
            airmass: None,
            hour_angle_h: None,
            pier: None,
            rotator_deg: None,
            focus: None,
            saturation: None,
            absurd: 0.0,
            stretched: false,
            blank: None,
            other_images: 0,
        }
    }

    /// What should be known of where it comes from and of values that are none, in words.
    pub fn notes(&self) -> Vec<String> {
        let by_name = self.filter.as_ref().filter(|_| self.filter_by_name);
        let by_name = by_name.map(|f| {
            format!(
                "no card names its filter: {} is read from the file's name",
                f.name()
            )
        });
        let first = (self.other_images > 0).then(|| {
            format!(
                "it is the first of {} images in its file: 'FILE[2]' takes the second",
                self.other_images + 1
            )
        });
        let both = by_name.into_iter().chain(first);
        let stretched = self.stretched.then(|| {
            "it looks stretched already, as for a screen, while all that is measured takes its values for light: give the linear frame instead"
                .to_owned()
        });
        both.chain(stretched).chain(self.no_data()).collect()
    }

    fn no_data(&self) -> Vec<String> {
        let part = |share: f32| match 100.0 * share {
            p if p < 1.0 => "less than 1 %".to_owned(),
            p => format!("some {p:.0} %"),
        };
        let absurd = (self.absurd > 0.0).then(|| {
            format!(
                "{} of its values are infinite or beyond 1e18: they count as no data",
                part(self.absurd)
            )
        });
        let blank = self.blank.map(|(share, value)| {
            format!(
                "{} of its pixels, a border or holes, are exactly {value}: they count as no data",
                part(share)
            )
        });
        absurd.into_iter().chain(blank).collect()
    }

    /// Arc seconds a pixel: by the WCS, which was measured on stars, or from pixel size and focal
    /// length, which somebody typed in.
    pub fn arcsec_per_px(&self) -> Option<f64> {
        let typed = || Some(206.264_806 * self.pixel_um? / self.focal_mm?);
        self.wcs_arcsec.or_else(typed)
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

    #[test]
    fn values_that_are_none_are_said_and_others_are_not() {
        let mut facts = FrameFacts::of_size(Size::new(10, 10).unwrap(), 1);
        assert!(facts.notes().is_empty());
        facts.stretched = true;
        assert!(facts.notes()[0].contains("stretched already"));
        facts.stretched = false;
        facts.absurd = 0.004;
        assert!(facts.notes()[0].starts_with("less than 1 %"));
        facts.absurd = 0.251;
        facts.blank = Some((0.052, 0.0));
        let said = facts.notes();
        assert!(said[0].starts_with("some 25 %"));
        assert!(said[1].starts_with("some 5 % of its pixels, a border or holes, are exactly 0:"));
    }
}
