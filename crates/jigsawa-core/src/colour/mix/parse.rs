//! Words to a tree. From loosest to tightest:
//! `or`; `and`; `not`; comparisons; `+ -`; `* /`; a number before a name; sign; `^`.
//!
//! The tree's height is bounded, so that nothing that walks it can exhaust the stack. Chains of `and` and `or`, which may
//! name every frame of a night, are halved again and again and stay low; a sum is worked out from left to right, since
//! its last bits depend on that, and is as high as it is long.

use winnow::stream::{Stream, TokenSlice};

use super::lex::{Token, Word, lex};
use super::{Expr, FUNCTIONS, Function, Mix, MixError, Name, Operator, Problem, UNITS};

/// Brackets in brackets: a bound so that no text can exhaust the stack.
const DEEPEST: usize = 100;

/// Height of a tree: some hundred kilobytes of a thread's two megabytes. The longest sum that anybody would type has some
/// dozen terms.
const HIGHEST: usize = 400;

/// The largest number of a mix or a condition; seconds since 1970 are 2e9.
const LARGEST: f32 = 1e15;

/// A tree and how high it is.
struct Grown {
    tree: Expr<Name>,
    height: usize,
}

type Parsed = Result<Grown, MixError>;

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
    let large = |t: &&Token| matches!(t.word, Word::Number(v, _) if v.abs() > LARGEST);
    if let Some(t) = tokens.iter().find(large) {
        return Err(MixError {
            column: t.column,
            problem: Problem::Large(t.text.clone()),
        });
    }
    let mut parser = Parser {
        rest: TokenSlice::new(&tokens),
        end: text.chars().count() + 1,
        depth: 0,
    };
    let root = parser.any_of()?.tree;
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

const fn leaf(tree: Expr<Name>) -> Grown {
    Grown { tree, height: 1 }
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
                left = self.both(*op, left, right)?;
            }
        }
        Ok(left)
    }

    /// A chain of an operator whose order does not matter, as a tree of even branches.
    fn even_chain(&mut self, sign: &str, op: Operator, tighter: fn(&mut Self) -> Parsed) -> Parsed {
        let mut links = vec![tighter(self)?];
        while self.take(&[sign]).is_some() {
            links.push(tighter(self)?);
        }
        while links.len() > 1 {
            let mut joined = Vec::with_capacity(links.len().div_ceil(2));
            let mut rest = links.into_iter();
            while let Some(left) = rest.next() {
                joined.push(match rest.next() {
                    Some(right) => self.both(op, left, right)?,
                    None => left,
                });
            }
            links = joined;
        }
        links.pop().ok_or_else(|| self.missing("a value"))
    }

    fn any_of(&mut self) -> Parsed {
        self.even_chain("or", Operator::Or, Self::all_of)
    }

    fn all_of(&mut self) -> Parsed {
        self.even_chain("and", Operator::And, Self::negation)
    }

    fn both(&self, op: Operator, left: Grown, right: Grown) -> Parsed {
        let height = left.height.max(right.height);
        let tree = Expr::Both(op, Box::new(left.tree), Box::new(right.tree));
        self.over(height, tree)
    }

    /// A tree over parts of this height.
    fn over(&self, height: usize, tree: Expr<Name>) -> Parsed {
        let height = height + 1;
        if height > HIGHEST {
            return Err(self.too_long());
        }
        Ok(Grown { tree, height })
    }

    fn too_long(&self) -> MixError {
        MixError {
            column: self.peek().map_or(self.end, |t| t.column),
            problem: Problem::TooDeep,
        }
    }

    fn negation(&mut self) -> Parsed {
        if self.take(&["not"]).is_some() {
            let of = self.deeper(Self::negation)?;
            return self.over(of.height, Expr::Not(Box::new(of.tree)));
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
            let of = self.deeper(Self::factor)?;
            return self.over(of.height, Expr::Negative(Box::new(of.tree)));
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
        if let (Some(v), true, true) = (share, named, matches!(left.tree, Expr::Number(..))) {
            let right = self.power()?;
            return self.both(Operator::Times, leaf(Expr::Number(v, None)), right);
        }
        Ok(left)
    }

    fn power(&mut self) -> Parsed {
        let base = self.primary()?;
        if self.take(&["^"]).is_none() {
            return Ok(base);
        }
        let exponent = self.deeper(Self::factor)?;
        self.both(Operator::Power, base, exponent)
    }

    fn primary(&mut self) -> Parsed {
        const EXPECTED: &str = "a filter, a frame, a number or '('";
        let Some(t) = self.peek() else {
            return Err(self.missing(EXPECTED));
        };
        match t.word {
            Word::Number(v, unit) => {
                self.rest.next_token();
                Ok(leaf(Expr::Number(v, unit)))
            }
            Word::Name if !["and", "or", "not"].contains(&t.text.as_str()) => {
                self.rest.next_token();
                if self
                    .peek()
                    .is_some_and(|n| n.word == Word::Sign && n.text == "(")
                {
                    return self.call(t);
                }
                Ok(leaf(Expr::Input(Name {
                    text: t.text.clone(),
                    column: t.column,
                })))
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
        let height = given.iter().map(|g| g.height).max().unwrap_or(0);
        let of = given.into_iter().map(|g| g.tree).collect();
        self.over(height, Expr::Call(function, of))
    }

    fn close(&mut self) -> Result<(), MixError> {
        self.take(&[")"])
            .map(|_| ())
            .ok_or_else(|| self.missing("')'"))
    }

    fn deeper(&mut self, inner: fn(&mut Self) -> Parsed) -> Parsed {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.too_long());
        }
        let parsed = inner(self);
        self.depth -= 1;
        parsed
    }
}
