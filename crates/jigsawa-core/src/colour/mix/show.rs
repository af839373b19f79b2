//! A tree back into text: for messages that quote a part of what was written.

use std::fmt;

use super::{Expr, FUNCTIONS, Name, Operator, UNITS};

impl fmt::Display for Expr<Name> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        show(self, 0, f)
    }
}

/// Sign and binding strength of an operator: a looser one inside a tighter one needs brackets.
const fn sign(op: Operator) -> (&'static str, u8) {
    match op {
        Operator::Or => ("or", 1),
        Operator::And => ("and", 2),
        Operator::Less => ("<", 4),
        Operator::Greater => (">", 4),
        Operator::AtMost => ("<=", 4),
        Operator::AtLeast => (">=", 4),
        Operator::Equal => ("==", 4),
        Operator::Unequal => ("!=", 4),
        Operator::Plus => ("+", 5),
        Operator::Minus => ("-", 5),
        Operator::Times => ("*", 6),
        Operator::Over => ("/", 6),
        Operator::Power => ("^", 8),
    }
}

fn show(e: &Expr<Name>, around: u8, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match e {
        Expr::Number(v, unit) => {
            let word = UNITS.iter().find(|(u, _)| Some(*u) == *unit);
            write!(f, "{v}")?;
            word.map_or(Ok(()), |(_, w)| write!(f, " {w}"))
        }
        Expr::Input(n) => {
            let plain = n.text.chars().all(|c| c.is_alphanumeric() || c == '_');
            if plain {
                f.write_str(&n.text)
            } else {
                write!(f, "\"{}\"", n.text)
            }
        }
        Expr::Negative(a) => {
            f.write_str("-")?;
            show(a, 7, f)
        }
        Expr::Not(a) => {
            f.write_str("not ")?;
            show(a, 3, f)
        }
        Expr::Both(op, a, b) => {
            let (sign, strength) = sign(*op);
            let brackets = strength < around;
            if brackets {
                f.write_str("(")?;
            }
            show(a, strength, f)?;
            write!(f, " {sign} ")?;
            // Of `and` and `or` the order does not matter.
            let order = u8::from(!matches!(op, Operator::And | Operator::Or));
            show(b, strength + order, f)?;
            if brackets {
                f.write_str(")")?;
            }
            Ok(())
        }
        Expr::Call(function, of) => {
            let name = FUNCTIONS
                .iter()
                .find(|(known, ..)| known == function)
                .map_or("", |(_, name, ..)| name);
            write!(f, "{name}(")?;
            for (i, a) in of.iter().enumerate() {
                if i > 0 {
                    f.write_str(", ")?;
                }
                show(a, 0, f)?;
            }
            f.write_str(")")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse_with_units;
    use rstest::rstest;

    #[rstest]
    #[case("fwhm<3.2px and (elongation < 1.3 or not stars>=100)")]
    #[case("2 * (a - (b - c)) ^ 2 == -d")]
    #[case("within(\"a b\", 1, 3 arcsec) > 2 deg")]
    fn text_that_is_shown_means_the_same(#[case] text: &str) {
        let tree = parse_with_units(text).unwrap();
        let shown = tree.root().to_string();
        let again = parse_with_units(&shown).unwrap();
        assert_eq!(again.root().to_string(), shown);
        let plain = |t: &str| t.replace([' ', '(', ')'], "");
        assert_eq!(plain(&shown), plain(text));
    }
}
