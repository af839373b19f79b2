//! What the user says of frames' places: from options to one hint a frame.

use jigsawa_core::matching::{Hint, LEAST_HAND_PAIRS};

use crate::frames::Frame;
use crate::trouble::Trouble;

/// `--hint FRAME:KEY=VALUE`.
#[derive(Debug, Clone, PartialEq)]
pub struct HintArg {
    frame: String,
    part: Part,
}

#[derive(Debug, Clone, PartialEq)]
enum Part {
    Rotate(f64),
    Shift([f64; 2]),
    Scale(f64),
    Mirrored,
}

/// `--pair FRAME:x,y=X,Y`.
#[derive(Debug, Clone, PartialEq)]
pub struct PairArg {
    frame: String,
    numbers: [f64; 4],
}

impl std::str::FromStr for HintArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            "write it as FRAME:rotate=180, FRAME:shift=12.5,-3, FRAME:scale=0.5 or FRAME:mirrored"
                .to_owned()
        };
        let (frame, rest) = text.rsplit_once(':').ok_or_else(wrong)?;
        let part = match rest.split_once('=') {
            Some(("rotate", v)) => Part::Rotate(number(v).ok_or_else(wrong)?),
            Some(("shift", v)) => Part::Shift(two(v).ok_or_else(wrong)?),
            Some(("scale", v)) => {
                let scale = number(v).filter(|s| (0.05..=20.0).contains(s));
                Part::Scale(scale.ok_or("a scale lies between 0.05 and 20")?)
            }
            None if rest == "mirrored" => Part::Mirrored,
            _ => return Err(wrong()),
        };
        let frame = frame.trim().to_owned();
        if frame.is_empty() {
            Err(wrong())
        } else {
            Ok(Self { frame, part })
        }
    }
}

impl std::str::FromStr for PairArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            "write it as FRAME:x,y=X,Y, a point of the frame and the same point of the reference, as in \
             oiii.fits:102,87=411,390"
                .to_owned()
        };
        let (frame, rest) = text.rsplit_once(':').ok_or_else(wrong)?;
        let (of_frame, of_reference) = rest.split_once('=').ok_or_else(wrong)?;
        let ([x, y], [u, v]) = two(of_frame).zip(two(of_reference)).ok_or_else(wrong)?;
        let frame = frame.trim().to_owned();
        let numbers = [x, y, u, v];
        if frame.is_empty() {
            Err(wrong())
        } else {
            Ok(Self { frame, numbers })
        }
    }
}

fn number(text: &str) -> Option<f64> {
    text.trim().parse().ok().filter(|v: &f64| v.is_finite())
}

fn two(text: &str) -> Option<[f64; 2]> {
    let (a, b) = text.split_once(',')?;
    Some([number(a)?, number(b)?])
}

/// The hint of each frame, of several options for one of them together; nothing when there are no options.
/// Pairs count pixels as FITS does, from 1.
pub fn hints(
    hints: &[HintArg],
    pairs: &[PairArg],
    frames: &[Frame],
) -> Result<Vec<Option<Hint>>, Trouble> {
    if hints.is_empty() && pairs.is_empty() {
        return Ok(Vec::new());
    }
    let mut all: Vec<Option<Hint>> = vec![None; frames.len()];
    let mut add = |option: &'static str, name: &str, change: &dyn Fn(&mut Hint)| {
        let mut known = false;
        for (f, hint) in frames
            .iter()
            .zip(&mut all)
            .filter(|(f, _)| f.is_called(name))
        {
            tracing::debug!("{option} for {}", f.name());
            change(hint.get_or_insert_default());
            known = true;
        }
        let unknown = || Trouble::NoSuchFrame {
            option,
            name: name.to_owned(),
            frames: frames.iter().map(Frame::name).collect(),
        };
        if known { Ok(()) } else { Err(unknown()) }
    };
    for h in hints {
        add("--hint", &h.frame, &|hint| match h.part {
            Part::Rotate(v) => hint.rotate_deg = Some(v),
            Part::Shift(v) => hint.shift = Some(v),
            Part::Scale(v) => hint.scale = Some(v),
            Part::Mirrored => hint.mirrored = true,
        })?;
    }
    for p in pairs {
        let from_zero = p.numbers.map(|v| v - 1.0);
        add("--pair", &p.frame, &|hint| hint.pairs.push(from_zero))?;
    }
    for (f, hint) in frames.iter().zip(&all) {
        let count = hint.as_ref().map_or(0, |h| h.pairs.len());
        if (1..LEAST_HAND_PAIRS).contains(&count) {
            return Err(Trouble::FewPairs {
                file: f.name(),
                count,
                needed: LEAST_HAND_PAIRS,
            });
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hints_and_pairs_are_read_and_others_refused() {
        let hint: HintArg = "night/o:3.fits:rotate=180".parse().unwrap();
        assert_eq!(
            (hint.frame.as_str(), hint.part),
            ("night/o:3.fits", Part::Rotate(180.0))
        );
        let hint: HintArg = "o.fits:shift=12.5,-3".parse().unwrap();
        assert_eq!(hint.part, Part::Shift([12.5, -3.0]));
        assert_eq!(
            "o:mirrored".parse::<HintArg>().unwrap().part,
            Part::Mirrored
        );
        for bad in [
            "o.fits",
            "o:turn=3",
            "o:rotate=x",
            "o:shift=1",
            ":rotate=1",
            "o:scale=0",
            "o:rotate=inf",
        ] {
            assert!(bad.parse::<HintArg>().is_err(), "{bad}");
        }
        let pair: PairArg = "o.fits:1,2=3.5,-4".parse().unwrap();
        assert_eq!(pair.numbers, [1.0, 2.0, 3.5, -4.0]);
        for bad in ["o.fits:1,2", "o:1=3,4", "o:1,2=3", "1,2=3,4", "o:a,2=3,4"] {
            assert!(bad.parse::<PairArg>().is_err(), "{bad}");
        }
    }
}
