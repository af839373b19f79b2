//! Dates, times and angles as headers write them.

use jiff::civil::{Date, DateTime, Time};
use jiff::{Timestamp, ToSpan, tz::TimeZone};
use jigsawa_core::number::Convert;

use crate::fits::Header;

use super::names::{DATE, LOCAL_DATE, RIGHT_ASCENSION, TIME};
use super::text;

/// Start of the exposure in seconds since 1970 (UTC): from one card with date and time, from two, or
/// from the modified Julian date.
pub(super) fn start(h: &Header) -> Option<f64> {
    let day = text(h, DATE);
    let whole = day.as_deref().and_then(moment);
    let in_two = || {
        let date: Date = day.as_deref()?.trim().parse().ok()?;
        let time: Time = text(h, TIME)?.trim().parse().ok()?;
        Some(date.to_datetime(time))
    };
    let julian = || {
        let days = h.number("MJD-OBS").or_else(|| h.number("MJD-BEG"))?;
        (days > 1.0).then_some((days - 40_587.0) * 86_400.0)
    };
    match whole.or_else(in_two) {
        Some(at) => seconds(at),
        None => julian(),
    }
}

/// A date with a time. A bare date tells no time, which is not midnight.
fn moment(text: &str) -> Option<DateTime> {
    let text = text.trim().trim_end_matches(['Z', 'z']);
    text.contains(['T', ' '])
        .then(|| text.parse().ok())
        .flatten()
}

fn seconds(at: DateTime) -> Option<f64> {
    let stamp = at.to_zoned(TimeZone::UTC).ok()?.timestamp();
    Some(stamp.as_millisecond().real() / 1000.0)
}

/// The evening that the night began with: noon to noon in local time, by the header's local date or
/// by the sun at the site's longitude.
pub(super) fn evening(h: &Header, start_s: Option<f64>, longitude: Option<f64>) -> Option<String> {
    let local = text(h, LOCAL_DATE).as_deref().and_then(moment);
    let by_the_sun = || {
        let shifted = start_s? + longitude? * 240.0;
        let stamp = Timestamp::from_millisecond((shifted * 1000.0).whole()).ok()?;
        Some(stamp.to_zoned(TimeZone::UTC).datetime())
    };
    let local = local.or_else(by_the_sun)?;
    let noon = local.checked_sub(12.hours()).ok()?;
    Some(noon.date().to_string())
}

/// An angle in degrees: a number, or degrees, minutes and seconds in any usual spelling
/// (`'+48 07 30'`, `'48:07:30.5'`, `'11d 34m W'`). West and south are negative.
pub(super) fn angle(h: &Header, names: &[&str]) -> Option<f64> {
    names.iter().find_map(|n| {
        let text = h.text(n)?;
        sexagesimal(&text).or_else(|| h.number(n))
    })
}

/// Right ascension in degrees: a plain number is degrees, parts are hours.
pub(super) fn right_ascension(h: &Header) -> Option<f64> {
    RIGHT_ASCENSION.iter().find_map(|n| {
        let text = h.text(n)?;
        let parts = numbers(&text);
        match parts.len() {
            0 => None,
            1 => Some(parts[0]),
            _ => sexagesimal(&text).map(|hours| 15.0 * hours),
        }
    })
}

/// Hours: a number, or parts.
pub(super) fn hours(h: &Header, names: &[&str]) -> Option<f64> {
    angle(h, names)
}

fn sexagesimal(text: &str) -> Option<f64> {
    let parts = numbers(text);
    let whole: f64 = parts
        .iter()
        .zip([1.0, 60.0, 3600.0])
        .map(|(v, unit)| v.abs() / unit)
        .sum();
    // An S after a blank is south; right after a digit it means seconds.
    let upper = text.trim().to_uppercase();
    let negative = upper.starts_with('-') || upper.contains('W') || upper.ends_with(" S");
    (!parts.is_empty() && parts.len() <= 3).then_some(if negative { -whole } else { whole })
}

fn numbers(text: &str) -> Vec<f64> {
    text.split(|c: char| !(c.is_ascii_digit() || c == '.' || c == '-' || c == '+'))
        .filter(|t| t.chars().any(|c| c.is_ascii_digit()))
        .filter_map(|t| t.parse().ok())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::header;
    use rstest::rstest;

    #[rstest]
    #[case(&["DATE-OBS= '2026-03-14T21:30:00.500'"], Some(1_773_523_800.5))]
    #[case(&["DATE-OBS= '2026-03-14'", "TIME-OBS= '21:30:00'"], Some(1_773_523_800.0))]
    #[case(&["DATE-OBS= '2026-03-14'"], None)]
    #[case(&["MJD-OBS =              61113.895833333"], Some(1_773_523_800.0))]
    #[case(&["DATE-OBS= 'yesterday'"], None)]
    fn the_start_is_read_or_missing(#[case] records: &[&str], #[case] want: Option<f64>) {
        let got = start(&header(records));
        match want {
            Some(want) => assert!((got.unwrap() - want).abs() < 0.01, "{got:?}"),
            None => assert_eq!(got, None),
        }
    }

    #[rstest]
    #[case("'+48 07 30'", 48.125)]
    #[case("'-11:30:00.0'", -11.5)]
    #[case("'11d 30m W'", -11.5)]
    #[case("-70.25", -70.25)]
    #[case("'48d 07m 30s'", 48.125)]
    #[case("'33 30 00 S'", -33.5)]
    #[case("'-00 30 00'", -0.5)]
    fn angles_are_read_in_every_spelling(#[case] text: &str, #[case] want: f64) {
        let h = header(&[&format!("SITELONG= {text}")]);
        let got = angle(&h, &["SITELONG"]).unwrap();
        assert!((got - want).abs() < 1e-9, "{got}");
    }

    #[test]
    fn a_night_lasts_from_noon_to_noon_of_the_site() {
        let h = header(&[]);
        // 03:00 UTC is an evening in the far west and a late night in Europe.
        let late = 1_773_457_200.0;
        assert_eq!(
            evening(&h, Some(late), Some(-120.0)).as_deref(),
            Some("2026-03-13")
        );
        assert_eq!(
            evening(&h, Some(late + 43_200.0), Some(10.0)).as_deref(),
            Some("2026-03-14")
        );
        assert_eq!(evening(&h, Some(late), None), None);
        let local = header(&["DATE-LOC= '2026-03-15T01:00:00'"]);
        assert_eq!(evening(&local, None, None).as_deref(), Some("2026-03-14"));
    }
}
