//! Words that notes and captions of several jobs share.

use jigsawa_core::balance::flatten::Ground;
use jigsawa_core::number::Convert;

/// A time as hours and minutes, or seconds where it is short.
pub fn duration(seconds: f64) -> String {
    let minutes = (seconds / 60.0).round().u64();
    if seconds < 120.0 {
        format!("{seconds:.0} s")
    } else if minutes < 60 {
        format!("{minutes} min")
    } else {
        format!("{} h {:02} min", minutes / 60, minutes % 60)
    }
}

/// What a gradient rests on, in words.
pub const fn ground_words(ground: Ground) -> &'static str {
    match ground {
        Ground::Sky => "smooth and dark in every filter",
        Ground::Told => "where it was shown",
        Ground::Rough => "nearly every patch has structure, so nothing is surely sky",
        Ground::Scattered => {
            "no smooth surface holds enough of the darkest patches, so nothing is surely sky"
        }
    }
}
