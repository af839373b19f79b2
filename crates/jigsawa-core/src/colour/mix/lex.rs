//! A mix cut into words.

use crate::number::Convert;
use winnow::ascii::multispace0;
use winnow::combinator::{alt, opt};
use winnow::stream::{LocatingSlice, Location, Stream};
use winnow::token::{any, one_of, take_till, take_while};
use winnow::{Parser, Result};

use super::{MixError, Problem, UNITS, Unit};

/// One word with its column.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Token {
    pub(super) word: Word,
    pub(super) text: String,
    pub(super) column: usize,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Word {
    /// A number, already divided by 100 where a % followed.
    Number(f32, Option<Unit>),
    /// A name; `text` has it without quotes.
    Name,
    /// An operator, a bracket or a comma.
    Sign,
}

type Input<'a> = LocatingSlice<&'a str>;

/// Parts of a colour picture, after its name and a point.
const PARTS: [&str; 4] = ["red", "green", "blue", "light"];

/// All words of the text.
pub(super) fn lex(text: &str) -> std::result::Result<Vec<Token>, MixError> {
    let mut input = LocatingSlice::new(text);
    let mut tokens = Vec::new();
    // Counted on from word to word: from the start each time, a long text would take its length squared.
    let (mut counted, mut column) = (0, 1);
    loop {
        let _: Result<&str> = multispace0.parse_next(&mut input);
        let at = input.current_token_start();
        if input.is_empty() {
            return Ok(tokens);
        }
        column += text[counted..at].chars().count();
        counted = at;
        let Ok((word, inner)) = word(&mut input) else {
            let bad = text[at..].chars().next().unwrap_or(' ');
            let problem = if bad == '"' || bad == '\'' {
                Problem::OpenQuote
            } else {
                Problem::Character(bad)
            };
            return Err(MixError { column, problem });
        };
        tokens.push(Token {
            word,
            text: inner.to_owned(),
            column,
        });
    }
}

fn word<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let start = input.checkpoint();
    for attempt in [number, part_of_name, name, quoted, sign] {
        if let Ok(found) = attempt(input) {
            return Ok(found);
        }
        input.reset(&start);
    }
    Err(winnow::error::ContextError::new())
}

fn digits<'a>(input: &mut Input<'a>) -> Result<&'a str> {
    take_while(1.., |c: char| c.is_ascii_digit()).parse_next(input)
}

fn number<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let exponent = || (one_of(['e', 'E']), opt(one_of(['+', '-'])), digits);
    let text = alt((
        (digits, opt(('.', opt(digits))), opt(exponent())).take(),
        ('.', digits, opt(exponent())).take(),
    ))
    .parse_next(input)?;
    let percent = opt((multispace0, '%')).parse_next(input)?.is_some();
    let unit = if percent {
        None
    } else {
        opt(unit).parse_next(input)?
    };
    // What the grammar above takes, the standard library reads; a huge one becomes infinite.
    let value: f64 = text.parse().unwrap_or(f64::INFINITY);
    let value = if percent { value / 100.0 } else { value };
    Ok((Word::Number(value.single(), unit), text))
}

/// The word of a unit right after a number; a longer word that begins like one is a name.
fn unit(input: &mut Input<'_>) -> Result<Unit> {
    let _ = multispace0.parse_next(input)?;
    let (_, word) = name(input)?;
    UNITS
        .iter()
        .find(|(_, text)| *text == word)
        .map(|(unit, _)| *unit)
        .ok_or_else(winnow::error::ContextError::new)
}

fn name<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let letter = |c: char| c.is_alphabetic() || c == '_';
    let text = (
        take_while(1, letter),
        take_while(0.., move |c: char| letter(c) || c.is_alphanumeric()),
    )
        .take()
        .parse_next(input)?;
    Ok((Word::Name, text))
}

/// A name with a part of a colour picture: `reef.red`.
fn part_of_name<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let text = (name, '.', name.verify(|(_, part)| PARTS.contains(part)))
        .take()
        .parse_next(input)?;
    Ok((Word::Name, text))
}

fn quoted<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let quote = one_of(['"', '\'']).parse_next(input)?;
    let text = take_till(1.., quote).parse_next(input)?;
    let _ = any.verify(|c: &char| *c == quote).parse_next(input)?;
    Ok((Word::Name, text))
}

fn sign<'a>(input: &mut Input<'a>) -> Result<(Word, &'a str)> {
    let text = alt((
        alt(("<=", ">=", "==", "!=")),
        one_of(['+', '-', '*', '/', '^', '(', ')', ',', '<', '>']).take(),
    ))
    .parse_next(input)?;
    Ok((Word::Sign, text))
}
