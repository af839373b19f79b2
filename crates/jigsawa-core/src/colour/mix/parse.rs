//! Words to a tree. From loosest to tightest:
//! `or`; `and`; `not`; comparisons; `+ -`; `* /`; a number before a name; sign; `^`.

use winnow::stream::{Stream, TokenSlice};

use super::lex::{Token, Word, lex};
use super::{Expr, FUNCTIONS, Function, Mix, MixError, Name, Operator, Problem, UNITS};

/// Brackets in brackets: a bound so that no text can exhaust the stack.
const DEEPEST: usize = 100;

type Tree = Expr<Name>;
type Parsed = Result<Tree, MixError>;

/// Parses a mix.
///
/// # Errors
/// The first thing that cannot be understood, with its column.
///
/// # Examples
/// ```
/// use jigsawa_core::colour::mix::parse;
/// let mix = parse("70% OIII + 30% Ha").unwrap();
/// let names: Vec<_> = mix.names().iter().map(|n| n.text.as_str()).collect();
/// assert_eq!(names, ["OIII", "Ha"]);
/// assert_eq!(parse("70% OIII +").unwrap_err().column, 11);
/// ```
pub fn parse(text: &str) -> Result<Mix, MixError> {
    for token in lex(text)? {
        if let Word::Number(_, Some(unit)) = token.word {
            let word = UNITS.iter().find(|(u, _)| *u == unit).map_or("", |u| u.1);
            return Err(MixError {
                column: token.column,
                problem: Problem::Unit(format!("{} {word}", token.text)),
            });
        }
    }
    parse_with_units(text)
}

/// Parses an expression of the same grammar whose numbers may have units: a condition.
///
/// # Errors
/// The first thing that cannot be understood, with its column.
pub fn parse_with_units(text: &str) -> Result<Mix, MixError> {
    let tokens = lex(text)?;
    let mut parser = Parser {
        rest: TokenSlice::new(&tokens),
        end: text.chars().count() + 1,
        depth: 0,
    };
    let root = parser.any_of()?;
    match parser.peek() {
        None => Ok(Mix {
            text: text.trim().to_owned(),
            root,
        }),
        Some(t) => Err(MixError {
            column: t.column,
            problem: Problem::Trailing(t.text.clone()),
        }),
    }
}

struct Parser<'t> {
    rest: TokenSlice<'t, Token>,
    /// Column after the last letter.
    end: usize,
    depth: usize,
}

impl<'t> Parser<'t> {
    fn peek(&self) -> Option<&'t Token> {
        self.rest.peek_token()
    }

    /// Takes the next word if it is one of these signs or words.
    fn take(&mut self, signs: &[&str]) -> Option<&'t Token> {
        let t = self.peek()?;
        let fits = !matches!(t.word, Word::Number(..)) && signs.contains(&t.text.as_str());
        if fits { self.rest.next_token() } else { None }
    }

    fn missing(&self, expected: &'static str) -> MixError {
        MixError {
            column: self.peek().map_or(self.end, |t| t.column),
            problem: Problem::Missing {
                expected,
                found: self.peek().map(|t| t.text.clone()),
            },
        }
    }

    /// A chain of operators of one strength, from left to right.
    fn chain(
        &mut self,
        operators: &[(&str, Operator)],
        tighter: fn(&mut Self) -> Parsed,
    ) -> Parsed {
        let signs: Vec<&str> = operators.iter().map(|(s, _)| *s).collect();
        let mut left = tighter(self)?;
        while let Some(t) = self.take(&signs) {
            let op = operators.iter().find(|(s, _)| *s == t.text);
            let right = tighter(self)?;
            if let Some((_, op)) = op {
                left = Expr::Both(*op, Box::new(left), Box::new(right));
            }
        }
        Ok(left)
    }

    fn any_of(&mut self) -> Parsed {
        self.chain(&[("or", Operator::Or)], Self::all_of)
    }

    fn all_of(&mut self) -> Parsed {
        self.chain(&[("and", Operator::And)], Self::negation)
    }

    fn negation(&mut self) -> Parsed {
        if self.take(&["not"]).is_some() {
            return self.deeper(Self::negation).map(|e| Expr::Not(Box::new(e)));
        }
        self.chain(
            &[
                ("<", Operator::Less),
                (">", Operator::Greater),
                ("<=", Operator::AtMost),
                (">=", Operator::AtLeast),
                ("==", Operator::Equal),
                ("!=", Operator::Unequal),
            ],
            Self::sum,
        )
    }

    fn sum(&mut self) -> Parsed {
        self.chain(
            &[("+", Operator::Plus), ("-", Operator::Minus)],
            Self::product,
        )
    }

    fn product(&mut self) -> Parsed {
        self.chain(
            &[("*", Operator::Times), ("/", Operator::Over)],
            Self::factor,
        )
    }

    /// `-x`, `70% x`, or a power.
    fn factor(&mut self) -> Parsed {
        if self.take(&["-"]).is_some() {
            return self
                .deeper(Self::factor)
                .map(|e| Expr::Negative(Box::new(e)));
        }
        let share = self.peek().and_then(|t| match t.word {
            Word::Number(v, None) => Some(v),
            _ => None,
        });
        let left = self.power()?;
        let named = self.peek().is_some_and(|t| {
            t.text == "("
                || (t.word == Word::Name && !["and", "or", "not"].contains(&t.text.as_str()))
        });
        // A number right before a name or a bracket multiplies it.
        if let (Some(v), true, true) = (share, named, matches!(left, Expr::Number(..))) {
            let right = self.power()?;
            return Ok(Expr::Both(
                Operator::Times,
                Box::new(Expr::Number(v, None)),
                Box::new(right),
            ));
        }
        Ok(left)
    }

    fn power(&mut self) -> Parsed {
        let base = self.primary()?;
        if self.take(&["^"]).is_none() {
            return Ok(base);
        }
        let exponent = self.deeper(Self::factor)?;
        Ok(Expr::Both(
            Operator::Power,
            Box::new(base),
            Box::new(exponent),
        ))
    }

    fn primary(&mut self) -> Parsed {
        const EXPECTED: &str = "a filter, a frame, a number or '('";
        let Some(t) = self.peek() else {
            return Err(self.missing(EXPECTED));
        };
        match t.word {
            Word::Number(v, unit) => {
                self.rest.next_token();
                Ok(Expr::Number(v, unit))
            }
            Word::Name if !["and", "or", "not"].contains(&t.text.as_str()) => {
                self.rest.next_token();
                if self
                    .peek()
                    .is_some_and(|n| n.word == Word::Sign && n.text == "(")
                {
                    return self.call(t);
                }
                Ok(Expr::Input(Name {
                    text: t.text.clone(),
                    column: t.column,
                }))
            }
            Word::Sign if t.text == "(" => {
                self.rest.next_token();
                let inner = self.deeper(Self::any_of)?;
                self.close()?;
                Ok(inner)
            }
            _ => Err(self.missing(EXPECTED)),
        }
    }

    fn call(&mut self, name: &Token) -> Parsed {
        let wrong = |problem| MixError {
            column: name.column,
            problem,
        };
        let Some((function, known, takes, _)) =
            FUNCTIONS.iter().find(|(_, n, _, _)| *n == name.text)
        else {
            return Err(wrong(Problem::Function(name.text.clone())));
        };
        self.rest.next_token();
        let mut given = vec![self.deeper(Self::any_of)?];
        while self.take(&[","]).is_some() {
            given.push(self.deeper(Self::any_of)?);
        }
        self.close()?;
        if given.len() != *takes {
            return Err(wrong(Problem::Arguments {
                name: known,
                takes: *takes,
                given: given.len(),
            }));
        }
        let function: Function = *function;
        Ok(Expr::Call(function, given))
    }

    fn close(&mut self) -> Result<(), MixError> {
        self.take(&[")"])
            .map(|_| ())
            .ok_or_else(|| self.missing("')'"))
    }

    fn deeper(&mut self, inner: fn(&mut Self) -> Parsed) -> Parsed {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(MixError {
                column: self.peek().map_or(self.end, |t| t.column),
                problem: Problem::TooDeep,
            });
        }
        let parsed = inner(self);
        self.depth -= 1;
        parsed
    }
}
