//! Header cards: name, value and comment from the 80 characters of a record, and back.

use std::fmt::Write as _;

/// The value of a card.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Text without its quotes and trailing blanks.
    Text(String),
    /// Any number.
    Number(f64),
    /// T or F.
    Logical(bool),
}

/// One card with a value.
#[derive(Debug, Clone, PartialEq)]
pub struct Card {
    /// The keyword, in capitals.
    pub name: String,
    /// Its value.
    pub value: Value,
    /// The record as it stands in the file.
    pub record: String,
}

/// The cards of a header that have a value, in order.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Header {
    /// The cards.
    pub cards: Vec<Card>,
}

impl Header {
    /// Reads records; those without a value (comments, history) and those that make no sense are
    /// passed over. Long strings on CONTINUE records are joined.
    pub fn from_records(records: &[String]) -> Self {
        let mut cards: Vec<Card> = Vec::new();
        for record in records {
            if let Some(more) = record.strip_prefix("CONTINUE") {
                if let (Some(card), Some(text)) = (cards.last_mut(), quoted(more.trim_start())) {
                    join(card, &text);
                }
            } else if let Some(card) = parse(record) {
                cards.push(card);
            }
        }
        for card in &mut cards {
            // A string that ends in & and has no continuation keeps its sign.
            if let Value::Text(t) = &mut card.value {
                t.truncate(t.trim_end().len());
            }
        }
        Self { cards }
    }

    /// The records of cards that describe the image and not the file: all but those that say how its pixels are
    /// stored.
    pub fn carried(&self) -> impl Iterator<Item = &str> {
        const FILE: [&str; 13] = [
            "SIMPLE", "XTENSION", "BITPIX", "EXTEND", "PCOUNT", "GCOUNT", "BZERO", "BSCALE",
            "BLANK", "CHECKSUM", "DATASUM", "DATAMIN", "DATAMAX",
        ];
        self.cards
            .iter()
            .filter(|c| !FILE.contains(&c.name.as_str()))
            .filter(|c| {
                !c.name.starts_with("NAXIS")
                    && !c.name.starts_with('Z')
                    && !c.name.starts_with("TFORM")
            })
            .map(|c| c.record.as_str())
    }

    /// The first card of this name.
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.cards.iter().find(|c| c.name == name).map(|c| &c.value)
    }

    /// The card's text; numbers and logicals as they are usually written.
    pub fn text(&self, name: &str) -> Option<String> {
        match self.get(name)? {
            Value::Text(t) => Some(t.trim().to_owned()),
            Value::Number(n) => Some(n.to_string()),
            Value::Logical(l) => Some(if *l { "T" } else { "F" }.to_owned()),
        }
        .filter(|t| !t.is_empty())
    }

    /// The card's finite number, also when it is written as a string, with a unit or not
    /// (`'300.0 s'`).
    pub fn number(&self, name: &str) -> Option<f64> {
        match self.get(name)? {
            Value::Number(n) => Some(*n),
            Value::Text(t) => {
                let t = t.trim();
                let end = t
                    .find(|c: char| !(c.is_ascii_digit() || "+-.eEdD".contains(c)))
                    .unwrap_or(t.len());
                number(t[..end].trim())
            }
            Value::Logical(_) => None,
        }
        .filter(|n| n.is_finite())
    }
}

fn join(card: &mut Card, more: &str) {
    if let Value::Text(text) = &mut card.value
        && text.ends_with('&')
    {
        text.pop();
        text.push_str(more);
    }
}

fn parse(record: &str) -> Option<Card> {
    let (name, rest) = if let Some(rest) = record.strip_prefix("HIERARCH ") {
        rest.split_once('=')?
    } else {
        let at = record.char_indices().nth(8)?.0;
        let (name, rest) = record.split_at(at);
        (
            name,
            rest.strip_prefix("= ").or_else(|| rest.strip_prefix('='))?,
        )
    };
    let rest = rest.trim_start();
    let value = if rest.starts_with('\'') {
        Value::Text(quoted(rest)?)
    } else {
        let bare = rest.split('/').next()?.trim();
        match bare {
            "T" => Value::Logical(true),
            "F" => Value::Logical(false),
            // Some programs forget the quotes.
            _ if bare.is_empty() => return None,
            _ => number(bare).map_or_else(|| Value::Text(bare.to_owned()), Value::Number),
        }
    };
    Some(Card {
        name: name.trim().to_uppercase(),
        value,
        record: record.to_owned(),
    })
}

/// The text between quotes, doubled quotes made single; `None` without an opening quote.
fn quoted(text: &str) -> Option<String> {
    let mut letters = text.strip_prefix('\'')?.chars().peekable();
    let mut inner = String::new();
    while let Some(c) = letters.next() {
        if c == '\'' {
            if letters.peek() == Some(&'\'') {
                letters.next();
            } else {
                break;
            }
        }
        inner.push(c);
    }
    Some(inner.trim_end().to_owned())
}

/// A number in FITS spelling, where the exponent may be a D.
fn number(text: &str) -> Option<f64> {
    text.replace(['d', 'D'], "E")
        .parse()
        .ok()
        .filter(|n: &f64| n.is_finite())
}

/// Records for a text value: one, or more with CONTINUE when it is long.
pub(crate) fn text_records(name: &str, value: &str, comment: &str) -> Vec<String> {
    let clean: String = value
        .chars()
        .map(|c| if (' '..='~').contains(&c) { c } else { '?' })
        .collect();
    let escaped = clean.replace('\'', "''");
    if escaped.len() <= 68 {
        let mut record = format!("{name:<8}= '{escaped:<8}'");
        if !comment.is_empty() && record.len() + comment.len() + 3 <= 80 {
            let _ = write!(record, " / {comment}");
        }
        return vec![record];
    }
    let mut records = Vec::new();
    let mut rest = escaped.as_str();
    while !rest.is_empty() {
        let mut cut = rest.len().min(66);
        // A doubled quote must not be torn.
        let quotes = rest[..cut].chars().rev().take_while(|c| *c == '\'').count();
        if cut < rest.len() && quotes % 2 == 1 {
            cut -= 1;
        }
        let (part, more) = rest.split_at(cut);
        let head = if records.is_empty() {
            format!("{name:<8}= ")
        } else {
            "CONTINUE  ".to_owned()
        };
        let sign = if more.is_empty() { "" } else { "&" };
        records.push(format!("{head}'{part}{sign}'"));
        rest = more;
    }
    records
}

/// Records of free text: HISTORY or COMMENT, 72 characters each, parted between words where words are
/// short enough.
pub(crate) fn free_records(name: &str, text: &str) -> Vec<String> {
    let clean: String = text
        .chars()
        .map(|c| if (' '..='~').contains(&c) { c } else { '?' })
        .collect();
    let mut records = Vec::new();
    let mut rest = clean.trim_end();
    while !rest.is_empty() {
        let cut = if rest.len() <= 72 {
            rest.len()
        } else {
            rest[..73].rfind(' ').filter(|i| *i > 0).unwrap_or(72)
        };
        records.push(format!("{name:<8}{}", rest[..cut].trim_end()));
        rest = rest[cut..].trim_start();
    }
    records
}

/// A header of records without their blanks, for tests.
#[cfg(test)]
pub(crate) fn header(records: &[&str]) -> Header {
    let padded: Vec<String> = records.iter().map(|r| format!("{r:<80}")).collect();
    Header::from_records(&padded)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_all_kinds_are_read() {
        let h = header(&[
            "SIMPLE  =                    T / standard",
            "EXPTIME = '300.0 s'            / written as text",
            "GAIN    =              1.25D+1",
            "OBJECT  = 'O''Reef  '          / quotes",
            "FILTER  = H-alpha              / without quotes",
            "COMMENT = not a value",
            "HIERARCH CAM SENSOR TEMP = -10.5",
            "EMPTY   =",
        ]);
        assert_eq!(h.get("SIMPLE"), Some(&Value::Logical(true)));
        assert_eq!(h.number("EXPTIME"), Some(300.0));
        assert_eq!(h.number("GAIN"), Some(12.5));
        assert_eq!(h.text("OBJECT").as_deref(), Some("O'Reef"));
        assert_eq!(h.text("FILTER").as_deref(), Some("H-alpha"));
        assert_eq!(h.number("CAM SENSOR TEMP"), Some(-10.5));
        assert_eq!(h.get("EMPTY"), None);
        assert_eq!(h.number("OBJECT"), None);
    }

    #[test]
    fn long_strings_go_out_and_come_back() {
        let long = format!("it''s {}", "a'b ".repeat(60));
        let records = text_records("FRAMES", &long, "files");
        assert!(records.len() > 3 && records.iter().all(|r| r.len() <= 80));
        let h = Header::from_records(&records);
        assert_eq!(h.text("FRAMES").as_deref(), Some(long.trim()));
    }

    #[test]
    fn short_text_keeps_its_comment_and_strange_letters_do_no_harm() {
        let r = text_records("OBJECT", "R\u{e9}ef", "the target");
        assert_eq!(r, ["OBJECT  = 'R?ef    ' / the target"]);
        assert_eq!(free_records("HISTORY", &"x".repeat(100)).len(), 2);
        let words = free_records("HISTORY", &"word ".repeat(20));
        assert_eq!(words.len(), 2);
        assert!(words.iter().all(|r| r.ends_with("word") && r.len() <= 80));
        assert!(parse("\u{e9}").is_none());
    }
}
