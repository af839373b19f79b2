//! Text that is not ours, from headers and from the names of files, on its way to each medium.
//!
//! - *Names of files* are written as they are; one that is no UTF-8, or that holds characters which steer a terminal or
//!   end a line, is written as a `file:` reference with such bytes in percent form (RFC 3986, RFC 8089), and read back from it.
//! - *Terminals* get no character that steers them.
//! - *Pages* escape by themselves (maud); what they keep as data for their scripts is JSON without `<`.
//! - *Shells* get single quotes.
//! - *Tables* (CSV) get no cell that a spreadsheet would take for a formula.

use std::borrow::Cow;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

/// What the encoded names begin with.
const REFERENCE: &str = "file:";

/// The name of a file as text, from which [`path_of`] makes the path again.
pub fn name_of(path: &Path) -> String {
    match path.to_str() {
        Some(plain) if !plain.chars().any(steers) && !plain.starts_with(REFERENCE) => {
            plain.to_owned()
        }
        _ => encoded(path),
    }
}

fn encoded(path: &Path) -> String {
    let mut name = REFERENCE.to_owned();
    let part = |name: &mut String, bytes: &[u8]| {
        for b in bytes {
            let _ = write!(name, "%{b:02X}");
        }
    };
    for chunk in path.as_os_str().as_encoded_bytes().utf8_chunks() {
        for c in chunk.valid().chars() {
            if steers(c) || c == '%' {
                part(&mut name, c.encode_utf8(&mut [0; 4]).as_bytes());
            } else {
                name.push(c);
            }
        }
        part(&mut name, chunk.invalid());
    }
    name
}

/// The path that a name stands for.
pub fn path_of(name: &str) -> PathBuf {
    let Some(reference) = name.strip_prefix(REFERENCE) else {
        return PathBuf::from(name);
    };
    let mut bytes = Vec::with_capacity(reference.len());
    let mut rest = reference.as_bytes();
    while let [first, more @ ..] = rest {
        let digits = more.get(..2).and_then(|d| std::str::from_utf8(d).ok());
        let byte = digits.and_then(|d| u8::from_str_radix(d, 16).ok());
        if let (b'%', Some(byte)) = (first, byte) {
            bytes.push(byte);
            rest = &more[2..];
        } else {
            bytes.push(*first);
            rest = more;
        }
    }
    of_bytes(bytes)
}

#[cfg(unix)]
fn of_bytes(bytes: Vec<u8>) -> PathBuf {
    use std::os::unix::ffi::OsStringExt;
    std::ffi::OsString::from_vec(bytes).into()
}

#[cfg(not(unix))]
fn of_bytes(bytes: Vec<u8>) -> PathBuf {
    String::from_utf8_lossy(&bytes).into_owned().into()
}

/// Does a character do something to a terminal or a line, instead of standing there? Controls, and those that turn the
/// direction of reading.
fn steers(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200E}' | '\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2066}'..='\u{2069}')
}

/// Text for a terminal: lines stay, what steers is replaced.
pub fn readable(text: &str) -> Cow<'_, str> {
    let harmful = |c: char| steers(c) && c != '\n';
    if !text.contains(harmful) {
        return Cow::Borrowed(text);
    }
    let shown = |c: char| if harmful(c) { '\u{FFFD}' } else { c };
    Cow::Owned(text.chars().map(shown).collect())
}

/// A word of a command for a POSIX shell: as it is, or between single quotes, in which nothing has a meaning.
pub fn shell_word(word: &str) -> Cow<'_, str> {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./=,:%+@".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return Cow::Borrowed(word);
    }
    Cow::Owned(format!("'{}'", word.replace('\'', r"'\''")))
}

/// A cell of words in a table: one that would be a formula is made text by an apostrophe.
pub fn table_cell(words: &str) -> Cow<'_, str> {
    if words.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        Cow::Owned(format!("'{words}"))
    } else {
        Cow::Borrowed(words)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_names_stay_and_others_come_back() {
        for plain in ["night/ha 1.fits", "100%.fits", "Größe.fits"] {
            assert_eq!(name_of(Path::new(plain)), plain);
            assert_eq!(path_of(plain), Path::new(plain));
        }
        for strange in [
            "a\nb.fits",
            "file:x%41.fits",
            "\u{1b}[2J.fits",
            "a\u{202E}stif.fits",
        ] {
            let name = name_of(Path::new(strange));
            assert!(
                name.starts_with("file:") && !name.contains(steers),
                "{name}"
            );
            assert_eq!(path_of(&name), Path::new(strange));
        }
        assert_eq!(path_of("file:%"), Path::new("%"));
    }

    #[cfg(unix)]
    #[test]
    fn names_that_are_no_text_come_back() {
        use std::os::unix::ffi::OsStrExt;
        let path = Path::new(std::ffi::OsStr::from_bytes(b"night/a\xff\xfe%.fits"));
        let name = name_of(path);
        assert_eq!(name, "file:night/a%FF%FE%25.fits");
        assert_eq!(path_of(&name), path);
    }

    #[test]
    fn nothing_steers_a_terminal_a_shell_or_a_spreadsheet() {
        assert_eq!(readable("a\u{1b}[31m\r\nb"), "a\u{FFFD}[31m\u{FFFD}\nb");
        assert_eq!(readable("two\nlines"), "two\nlines");
        assert_eq!(shell_word("--out"), "--out");
        assert_eq!(shell_word("$(rm -r ~) it's"), r"'$(rm -r ~) it'\''s'");
        assert_eq!(shell_word(""), "''");
        assert_eq!(table_cell("=1+1"), "'=1+1");
        assert_eq!(table_cell("Ha"), "Ha");
    }
}
