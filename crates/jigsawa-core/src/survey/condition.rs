//! Which frames to keep, by the user's rule: an expression of the language of mixes whose names are
//! quantities of a frame, as in `fwhm < 3.2 px and elongation < 1.3 and clouds < 20%`.
//!
//! Units are checked before anything is computed: a length may be given in pixels or arc seconds (the
//! frame's own scale decides), times in seconds, angles in degrees; a plain number takes the unit of
//! what it is compared with. Words are compared with == and !=. A frame for which something is not
//! known does not fulfil what asks for it, and the reason says so.

use super::quantity::{Known, Measure, QUANTITIES, Quantity, Value, named};
use crate::colour::mix::{self, BoundMix, Expr, MixError, Name, Operator, Unit};
use crate::number::Convert;

/// A rule that is understood.
pub struct Condition {
    parts: Vec<Part>,
}

/// One of several things that must all hold.
struct Part {
    text: String,
    asks: Vec<&'static Quantity>,
    inputs: Vec<Input>,
    rule: BoundMix,
}

/// What the expression computes with.
#[derive(Debug, Clone, PartialEq)]
enum Input {
    /// The quantity of this number in the table.
    Quantity(usize),
    /// Is the quantity of this number these words? 1 or 0.
    Is(usize, String),
    /// Pixels for an arc second.
    PixelsPerArcsec,
}

/// What is wrong with a rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ConditionError {
    /// It cannot be read.
    #[error(transparent)]
    Text(#[from] MixError),
    /// There is no such quantity.
    #[error("there is no quantity '{}'", .0.text)]
    Name(Name),
    /// Units that do not go together.
    #[error("'{text}' sets {left} against {right}")]
    Units {
        /// The place, as it was understood.
        text: String,
        /// What stands on one side.
        left: &'static str,
        /// What stands on the other.
        right: &'static str,
    },
    /// Words used as a number.
    #[error("{0} is made of words: compare it with == or !=")]
    Words(String),
    /// A value that is no condition.
    #[error("'{0}' is a value, not a condition: compare it with something")]
    NotACondition(String),
}

/// What a part of an expression is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// A number that takes any unit.
    Any,
    Truth,
    Of(Measure),
}

impl Kind {
    const fn words(self) -> &'static str {
        match self {
            Self::Any => "a plain number",
            Self::Truth => "a condition",
            Self::Of(Measure::Number | Measure::Light) => "a number without unit",
            Self::Of(Measure::Pixels) => "a length in px or arcsec",
            Self::Of(Measure::Part) => "a part in %",
            Self::Of(Measure::Seconds) => "a time in s",
            Self::Of(Measure::Degrees) => "an angle in deg",
            Self::Of(Measure::Words) => "words",
        }
    }
}

impl Condition {
    /// Understands a rule.
    ///
    /// # Errors
    /// When it cannot be read, names what is not there, mixes units that do not go together, or is no
    /// condition.
    pub fn parse(text: &str) -> Result<Self, ConditionError> {
        let tree = mix::parse_with_units(text)?;
        let mut parts = Vec::new();
        split(tree.root(), &mut parts);
        let parts = parts
            .into_iter()
            .map(|e| {
                let mut inputs = Vec::new();
                let (rule, kind) = bind(e, &mut inputs)?;
                match kind {
                    Kind::Truth | Kind::Any => {}
                    Kind::Of(_) => return Err(ConditionError::NotACondition(e.to_string())),
                }
                let asks = inputs
                    .iter()
                    .filter_map(|i| match i {
                        Input::Quantity(q) | Input::Is(q, _) => Some(&QUANTITIES[*q]),
                        Input::PixelsPerArcsec => named("scale"),
                    })
                    .collect();
                Ok(Part {
                    text: e.to_string(),
                    asks,
                    inputs,
                    rule: BoundMix::of(rule),
                })
            })
            .collect::<Result<_, ConditionError>>()?;
        Ok(Self { parts })
    }

    /// Why a frame does not fulfil the rule; `None` when it does.
    pub fn fails(&self, known: &Known<'_>) -> Option<String> {
        self.parts.iter().find_map(|p| p.fails(known))
    }

    /// The limits that the rule sets on single quantities, as in `fwhm < 3.2`: for plots.
    pub fn limits(&self, known: &Known<'_>) -> Vec<(&'static str, f64)> {
        self.parts.iter().filter_map(|p| p.limit(known)).collect()
    }
}

impl Part {
    fn fails(&self, known: &Known<'_>) -> Option<String> {
        let values: Vec<[f32; 1]> = self.inputs.iter().map(|i| [i.of(known)]).collect();
        let runs: Vec<&[f32]> = values.iter().map(<[f32; 1]>::as_slice).collect();
        let mut holds = [0.0];
        self.rule.eval(&runs, 1.0, &mut holds);
        if holds[0] != 0.0 && !holds[0].is_nan() {
            return None;
        }
        let mut seen: Vec<&str> = Vec::new();
        let told: Vec<String> = self
            .asks
            .iter()
            .filter(|q| {
                let new = !seen.contains(&q.name);
                seen.push(q.name);
                new
            })
            .map(|q| match (q.of)(known) {
                Some(Value::Number(v)) => format!("{} {}{}", q.name, q.shown_number(v), q.unit()),
                Some(Value::Words(text)) => format!("{} {text}", q.name),
                None => format!("{} is not known", q.name),
            })
            .collect();
        let told = if told.is_empty() {
            String::new()
        } else {
            format!("{}, ", told.join(", "))
        };
        Some(format!("{told}wanted {}", self.text))
    }

    /// `name < number`, either way round: the name and the number in the quantity's own unit.
    fn limit(&self, known: &Known<'_>) -> Option<(&'static str, f64)> {
        let Expr::Both(op, a, b) = self.rule.root() else {
            return None;
        };
        let bounds = [
            Operator::Less,
            Operator::Greater,
            Operator::AtMost,
            Operator::AtLeast,
        ];
        if !bounds.contains(op) {
            return None;
        }
        let ((Expr::Input(i), value) | (value, Expr::Input(i))) = (&**a, &**b) else {
            return None;
        };
        let Input::Quantity(q) = self.inputs[*i] else {
            return None;
        };
        let mut out = [0.0];
        let values: Vec<[f32; 1]> = self.inputs.iter().map(|i| [i.of(known)]).collect();
        let runs: Vec<&[f32]> = values.iter().map(<[f32; 1]>::as_slice).collect();
        let mut own = false;
        value.each_input(&mut |j| {
            own |= matches!(self.inputs[*j], Input::Quantity(_) | Input::Is(..));
        });
        BoundMix::of(value.clone()).eval(&runs, 1.0, &mut out);
        (!own && out[0].is_finite()).then(|| (QUANTITIES[q].name, f64::from(out[0])))
    }
}

impl Input {
    fn of(&self, known: &Known<'_>) -> f32 {
        let value = match self {
            Self::Quantity(q) => QUANTITIES[*q].number_of(known),
            Self::Is(q, words) => match (QUANTITIES[*q].of)(known) {
                Some(Value::Words(text)) => Some(f64::from(u8::from(same_words(&text, words)))),
                _ => None,
            },
            Self::PixelsPerArcsec => known.facts.arcsec_per_px().map(|s| 1.0 / s),
        };
        value.map_or(f32::NAN, Convert::single)
    }
}

/// The same words, whatever their case; a filter also by another of its spellings.
fn same_words(a: &str, b: &str) -> bool {
    use crate::filter::Filter;
    let filter = |t: &str| Filter::from_spelling(t);
    a.eq_ignore_ascii_case(b) || (filter(a).is_some() && filter(a) == filter(b))
}

/// The parts that `and` joins at the top.
fn split<'e>(e: &'e Expr<Name>, into: &mut Vec<&'e Expr<Name>>) {
    if let Expr::Both(Operator::And, a, b) = e {
        split(a, into);
        split(b, into);
    } else {
        into.push(e);
    }
}

type Bound = (Expr<usize>, Kind);

fn bind(e: &Expr<Name>, inputs: &mut Vec<Input>) -> Result<Bound, ConditionError> {
    match e {
        Expr::Number(v, unit) => Ok(match unit {
            None => (Expr::Number(*v, None), Kind::Any),
            Some(Unit::Pixels) => (Expr::Number(*v, None), Kind::Of(Measure::Pixels)),
            Some(Unit::Seconds) => (Expr::Number(*v, None), Kind::Of(Measure::Seconds)),
            Some(Unit::Degrees) => (Expr::Number(*v, None), Kind::Of(Measure::Degrees)),
            Some(Unit::Arcsec) => {
                let scale = Expr::Input(input(inputs, Input::PixelsPerArcsec));
                let number = Expr::Number(*v, None);
                (
                    Expr::Both(Operator::Times, Box::new(number), Box::new(scale)),
                    Kind::Of(Measure::Pixels),
                )
            }
        }),
        Expr::Input(name) => {
            let q = quantity(name)?;
            if QUANTITIES[q].measure == Measure::Words {
                return Err(ConditionError::Words(name.text.clone()));
            }
            // Levels in a file's units are numbers like others.
            let kind = match QUANTITIES[q].measure {
                Measure::Light => Kind::Of(Measure::Number),
                other => Kind::Of(other),
            };
            Ok((Expr::Input(input(inputs, Input::Quantity(q))), kind))
        }
        Expr::Negative(a) => {
            let (a, kind) = bind(a, inputs)?;
            Ok((Expr::Negative(Box::new(a)), kind))
        }
        Expr::Not(a) => {
            let (a, _) = bind(a, inputs)?;
            Ok((Expr::Not(Box::new(a)), Kind::Truth))
        }
        Expr::Both(op, a, b) => {
            if let Some(words) = compare_words(*op, a, b, inputs)? {
                return Ok(words);
            }
            let ((x, left), (y, right)) = (bind(a, inputs)?, bind(b, inputs)?);
            let kind = joined(*op, left, right).ok_or_else(|| ConditionError::Units {
                text: e.to_string(),
                left: left.words(),
                right: right.words(),
            })?;
            Ok((Expr::Both(*op, Box::new(x), Box::new(y)), kind))
        }
        Expr::Call(f, of) => {
            let mut kind = Kind::Any;
            let mut bound = Vec::with_capacity(of.len());
            for a in of {
                let (x, next) = bind(a, inputs)?;
                kind = match (kind, next) {
                    (k, Kind::Any | Kind::Truth) | (Kind::Any, k) => k,
                    (k, l) if k == l => k,
                    (left, right) => {
                        return Err(ConditionError::Units {
                            text: e.to_string(),
                            left: left.words(),
                            right: right.words(),
                        });
                    }
                };
                bound.push(x);
            }
            Ok((Expr::Call(*f, bound), kind))
        }
    }
}

/// The number of an input, added if it is new.
fn input(inputs: &mut Vec<Input>, wanted: Input) -> usize {
    inputs.iter().position(|i| *i == wanted).unwrap_or_else(|| {
        inputs.push(wanted);
        inputs.len() - 1
    })
}

fn quantity(name: &Name) -> Result<usize, ConditionError> {
    QUANTITIES
        .iter()
        .position(|q| q.name == name.text)
        .ok_or_else(|| ConditionError::Name(name.clone()))
}

/// `filter == Ha`: words on one side make a word of the name on the other.
fn compare_words(
    op: Operator,
    a: &Expr<Name>,
    b: &Expr<Name>,
    inputs: &mut Vec<Input>,
) -> Result<Option<Bound>, ConditionError> {
    let words = |e: &Expr<Name>| match e {
        Expr::Input(n) => quantity(n)
            .ok()
            .filter(|q| QUANTITIES[*q].measure == Measure::Words),
        _ => None,
    };
    let literal = |e: &Expr<Name>| match e {
        Expr::Input(n) => Some(n.text.clone()),
        _ => None,
    };
    let (q, text) = match (words(a), words(b)) {
        (Some(q), _) => (q, literal(b)),
        (None, Some(q)) => (q, literal(a)),
        (None, None) => return Ok(None),
    };
    let (true, Some(text)) = (matches!(op, Operator::Equal | Operator::Unequal), text) else {
        return Err(ConditionError::Words(QUANTITIES[q].name.to_owned()));
    };
    let is = Expr::Input(input(inputs, Input::Is(q, text)));
    let bound = if op == Operator::Equal {
        is
    } else {
        Expr::Not(Box::new(is))
    };
    Ok(Some((bound, Kind::Truth)))
}

/// What an operator makes of two kinds; `None` when they do not go together.
fn joined(op: Operator, left: Kind, right: Kind) -> Option<Kind> {
    let same = match (left, right) {
        (Kind::Any, k) | (k, Kind::Any) => Some(k),
        (a, b) if a == b => Some(a),
        // A plain number is a part of one, too.
        (Kind::Of(Measure::Part), Kind::Of(Measure::Number))
        | (Kind::Of(Measure::Number), Kind::Of(Measure::Part)) => Some(Kind::Of(Measure::Number)),
        _ => None,
    };
    let plain = |k: Kind| matches!(k, Kind::Any | Kind::Of(Measure::Number | Measure::Part));
    match op {
        Operator::And | Operator::Or => Some(Kind::Truth),
        Operator::Plus | Operator::Minus => same.filter(|k| *k != Kind::Truth),
        Operator::Times if plain(left) => Some(right),
        Operator::Times | Operator::Over if plain(right) => Some(left),
        Operator::Over => same.map(|_| Kind::Of(Measure::Number)),
        Operator::Power => (plain(left) && plain(right)).then_some(left),
        Operator::Times => None,
        _ => same.filter(|k| *k != Kind::Truth).map(|_| Kind::Truth),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Filter;
    use crate::frame::FrameFacts;
    use crate::space::Size;
    use crate::survey::compare::Compared;
    use rstest::rstest;

    fn with<T>(scale: bool, work: impl FnOnce(&Known<'_>) -> T) -> T {
        let facts = FrameFacts {
            filter: Some(Filter::Oiii),
            exposure_s: Some(300.0),
            altitude_deg: Some(42.0),
            wcs_arcsec: scale.then_some(1.5),
            focus: Some(2.4),
            ..FrameFacts::of_size(Size::new(10, 10).unwrap(), 1)
        };
        let compared = Compared {
            transparency: Some(0.85),
            dither_px: Some((3.0, 4.0)),
            ..Compared::default()
        };
        work(&Known {
            file: "a.fits",
            facts: &facts,
            night: Some("2026-03-14"),
            measures: None,
            compared: Some(&compared),
            score: None,
        })
    }

    #[rstest]
    #[case("dither < 5.5 px", true)]
    #[case("dither < 8 arcsec", true)]
    #[case("dither < 7 arcsec", false)]
    #[case("clouds < 20%", true)]
    #[case("clouds < 0.1", false)]
    #[case("exposure == 300 s and altitude > 40 deg", true)]
    #[case("filter == O3", true)]
    #[case("filter != oiii or altitude < 10", false)]
    #[case("not filter == Ha", true)]
    #[case("night == \"2026-03-14\"", true)]
    #[case("2 * dither + 1 px > 10.5 px", true)]
    #[case("within(altitude, 0 deg, 30 deg) == 30 deg", true)]
    #[case("1", true)]
    fn rules_are_decided(#[case] text: &str, #[case] kept: bool) {
        let rule = Condition::parse(text).unwrap_or_else(|e| panic!("{e}"));
        assert_eq!(with(true, |k| rule.fails(k)).is_none(), kept);
    }

    #[test]
    fn the_reason_quotes_value_and_rule() {
        let rule = Condition::parse("clouds < 20% and dither<3px").unwrap();
        let why = with(true, |k| rule.fails(k)).unwrap();
        assert_eq!(why, "dither 5.0 px, wanted dither < 3 px");
        let rule = Condition::parse("fwhm < 3").unwrap();
        let why = with(true, |k| rule.fails(k)).unwrap();
        assert_eq!(why, "fwhm is not known, wanted fwhm < 3");
        let rule = Condition::parse("dither < 8 arcsec").unwrap();
        let why = with(false, |k| rule.fails(k)).unwrap();
        assert_eq!(
            why,
            "dither 5.0 px, scale is not known, wanted dither < 8 arcsec"
        );
    }

    #[test]
    fn limits_are_in_the_quantitys_own_unit() {
        let rule =
            Condition::parse("dither < 9 arcsec and 30% > clouds and stars + 1 > 3").unwrap();
        let limits = with(true, |k| rule.limits(k));
        assert_eq!(limits.len(), 2);
        assert!(limits[0].0 == "dither" && (limits[0].1 - 6.0).abs() < 1e-5);
        assert!(limits[1].0 == "clouds" && (limits[1].1 - 0.3).abs() < 1e-6);
    }

    #[rstest]
    #[case(
        "fwhm < 3 s",
        "'fwhm < 3 s' sets a length in px or arcsec against a time in s"
    )]
    #[case(
        "altitude > 30 px",
        "sets an angle in deg against a length in px or arcsec"
    )]
    #[case("fhwm < 3", "there is no quantity 'fhwm'")]
    #[case("filter < 3", "filter is made of words")]
    #[case("fwhm", "'fwhm' is a value, not a condition")]
    #[case("fwhm < ", "is missing at column 8")]
    #[case("fwhm * altitude < 3", "sets a length")]
    fn what_makes_no_sense_is_said(#[case] text: &str, #[case] says: &str) {
        let error = Condition::parse(text).err().unwrap().to_string();
        assert!(error.contains(says), "{error}");
    }
}
