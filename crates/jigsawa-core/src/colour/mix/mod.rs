//! The mix language: what a channel is made of.
//!
//! `"70% OIII + 30% Ha"`: frames or filters by name, numbers, + - * / ^, brackets, comparisons and a
//! few functions. `lex` cuts the text into words, `parse` builds the tree, `eval` computes it over
//! runs of pixels. docs/mix.md is the language's page for users.

mod eval;
mod lex;
mod parse;
mod show;

pub use parse::{parse, parse_with_units};

/// A mix as written, parsed: names are still text.
#[derive(Debug, Clone, PartialEq)]
pub struct Mix {
    text: String,
    root: Expr<Name>,
}

/// A mix whose names stand for inputs of a merge.
#[derive(Debug, Clone, PartialEq)]
pub struct BoundMix {
    root: Expr<usize>,
}

/// A name in a mix, and the column (from 1) where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// The name without quotes.
    pub text: String,
    /// Column of its first letter.
    pub column: usize,
}

/// What can be computed.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Expr<N> {
    Number(f32, Option<Unit>),
    Input(N),
    Negative(Box<Expr<N>>),
    Not(Box<Expr<N>>),
    Both(Operator, Box<Expr<N>>, Box<Expr<N>>),
    Call(Function, Vec<Expr<N>>),
}

/// What a number can be counted in. A per cent sign is none: it divides by a hundred.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unit {
    /// Pixels.
    Pixels,
    /// Arc seconds.
    Arcsec,
    /// Seconds of time.
    Seconds,
    /// Degrees of an angle.
    Degrees,
}

/// Every unit with the word that follows a number.
pub(crate) const UNITS: [(Unit, &str); 4] = [
    (Unit::Pixels, "px"),
    (Unit::Arcsec, "arcsec"),
    (Unit::Seconds, "s"),
    (Unit::Degrees, "deg"),
];

/// Operators between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Operator {
    Plus,
    Minus,
    Times,
    Over,
    Power,
    Less,
    Greater,
    AtMost,
    AtLeast,
    Equal,
    Unequal,
    And,
    Or,
}

/// Functions by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Function {
    Lighter,
    Darker,
    Screen,
    Within,
    When,
    Ramp,
    Blend,
}

/// Function, its name, how many arguments it takes, what it gives: the table that parser, messages
/// and docs read.
const FUNCTIONS: [(Function, &str, usize, &str); 7] = [
    (
        Function::Lighter,
        "lighter",
        2,
        "lighter(a, b): the larger of both",
    ),
    (
        Function::Darker,
        "darker",
        2,
        "darker(a, b): the smaller of both",
    ),
    (
        Function::Screen,
        "screen",
        2,
        "screen(a, b): white - (white - a)(white - b) / white",
    ),
    (
        Function::Within,
        "within",
        3,
        "within(a, low, high): a, but not below low nor above high",
    ),
    (
        Function::When,
        "when",
        3,
        "when(condition, a, b): a where the condition holds, else b",
    ),
    (
        Function::Ramp,
        "ramp",
        3,
        "ramp(a, low, high): 0 up to low, 1 from high on, smoothly in between: a mask",
    ),
    (
        Function::Blend,
        "blend",
        3,
        "blend(a, b, mask): a where the mask is 0, b where it is 1, both in between",
    ),
];

/// What is wrong with a mix, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{problem} at column {column}")]
pub struct MixError {
    /// Column of the first letter that cannot be understood, from 1.
    pub column: usize,
    /// What is wrong.
    pub problem: Problem,
}

/// What can be wrong with a mix.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Problem {
    /// A character that the language does not have.
    #[error("'{0}' means nothing here")]
    Character(char),
    /// A quote that is not closed.
    #[error("a quote is opened and not closed")]
    OpenQuote,
    /// Something else should stand here.
    #[error("{expected} is missing{}", found.as_ref().map(|f| format!(" before '{f}'")).unwrap_or_default())]
    Missing {
        /// What should stand here.
        expected: &'static str,
        /// What stands here instead; nothing at the end.
        found: Option<String>,
    },
    /// Text after the end of the mix.
    #[error("'{0}' follows a complete mix; an operator is missing before it")]
    Trailing(String),
    /// A function that does not exist.
    #[error("there is no function '{0}'")]
    Function(String),
    /// A function with the wrong number of arguments.
    #[error("{name} takes {takes} values, here are {given}")]
    Arguments {
        /// The function.
        name: &'static str,
        /// How many it takes.
        takes: usize,
        /// How many were given.
        given: usize,
    },
    /// A unit in a mix, whose values are those of pixels.
    #[error("a mix has no units, and here is '{0}'")]
    Unit(String),
    /// More brackets in brackets, or more terms, than any mix needs.
    #[error("it is too long or nested too deeply to be worked out")]
    TooDeep,
    /// A number that is larger than any light.
    #[error("{0} is too large to be computed with")]
    Large(String),
}

impl Mix {
    /// The tree, for who gives the words another meaning.
    pub(crate) fn root(&self) -> &Expr<Name> {
        &self.root
    }

    /// The mix as its user wrote it.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The mix that is one frame or filter alone.
    pub fn of(name: &str) -> Self {
        Self {
            text: name.to_owned(),
            root: Expr::Input(Name {
                text: name.to_owned(),
                column: 1,
            }),
        }
    }

    /// All names in the order in which they stand.
    pub fn names(&self) -> Vec<&Name> {
        let mut names = Vec::new();
        self.root.each_input(&mut |n| names.push(n));
        names
    }

    /// Replaces each name by the number of an input.
    ///
    /// # Errors
    /// Whatever `number` says of a name that stands for no input.
    pub fn bind<E>(
        &self,
        mut number: impl FnMut(&Name) -> Result<usize, E>,
    ) -> Result<BoundMix, E> {
        Ok(BoundMix {
            root: self.root.bind(&mut number)?,
        })
    }

    /// The functions of the language, each with what it gives.
    pub fn functions() -> impl Iterator<Item = (&'static str, &'static str)> {
        FUNCTIONS.iter().map(|(_, name, _, what)| (*name, *what))
    }
}

impl BoundMix {
    /// The tree.
    pub(crate) const fn root(&self) -> &Expr<usize> {
        &self.root
    }

    /// A tree whose names are numbers of inputs already.
    pub(crate) const fn of(root: Expr<usize>) -> Self {
        Self { root }
    }
}

impl<N> Expr<N> {
    pub(crate) fn each_input<'a>(&'a self, visit: &mut impl FnMut(&'a N)) {
        match self {
            Self::Number(..) => {}
            Self::Input(n) => visit(n),
            Self::Negative(a) | Self::Not(a) => a.each_input(visit),
            Self::Both(_, a, b) => {
                a.each_input(visit);
                b.each_input(visit);
            }
            Self::Call(_, of) => of.iter().for_each(|a| a.each_input(visit)),
        }
    }

    fn bind<E>(&self, number: &mut impl FnMut(&N) -> Result<usize, E>) -> Result<Expr<usize>, E> {
        let mut boxed = |e: &Self| e.bind(number).map(Box::new);
        Ok(match self {
            Self::Number(v, unit) => Expr::Number(*v, *unit),
            Self::Negative(a) => Expr::Negative(boxed(a)?),
            Self::Not(a) => Expr::Not(boxed(a)?),
            Self::Both(op, a, b) => Expr::Both(*op, boxed(a)?, boxed(b)?),
            Self::Input(n) => Expr::Input(number(n)?),
            Self::Call(f, of) => Expr::Call(
                *f,
                of.iter()
                    .map(|a| a.bind(number))
                    .collect::<Result<_, E>>()?,
            ),
        })
    }
}

#[cfg(test)]
mod tests;
