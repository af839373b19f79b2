//! Patterns of file names: `*` and `?` stay within a name, `**` goes through folders, `[ab]` is one of some letters, `[!ab]` none
//! of them, `{one,other}` one of some words, and a backslash takes the meaning from what follows it.

use std::path::Path;

use fast_glob::glob_match;

/// A pattern that can be read.
#[derive(Debug, Clone, Copy)]
pub struct Pattern<'a>(&'a str);

/// What is wrong with a pattern.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// A class of letters without its end.
    #[error("a '[' has no ']' behind it ('[[]' means the bracket itself)")]
    Class,
    /// Words without their end.
    #[error("a '{{' has no '}}' behind it ('[{{]' means the brace itself)")]
    Words,
    /// An end of words that have not begun.
    #[error("a '}}' has no '{{' before it ('[}}]' means the brace itself)")]
    NoWords,
    /// Nothing follows the backslash.
    #[error("it ends in a backslash")]
    Backslash,
}

impl<'a> Pattern<'a> {
    /// Reads it.
    ///
    /// # Errors
    /// When brackets or braces do not close.
    pub fn new(text: &'a str) -> Result<Self, PatternError> {
        let mut open = 0usize;
        let mut letters = text.chars();
        while let Some(letter) = letters.next() {
            match letter {
                '\\' => {
                    letters.next().ok_or(PatternError::Backslash)?;
                }
                '[' => {
                    let inside = letters.as_str();
                    let inside = inside.strip_prefix(['!', '^']).unwrap_or(inside);
                    // Right at the beginning it stands for itself.
                    let inside = inside.strip_prefix(']').unwrap_or(inside);
                    let (_, behind) = inside.split_once(']').ok_or(PatternError::Class)?;
                    letters = behind.chars();
                }
                '{' => open += 1,
                '}' => open = open.checked_sub(1).ok_or(PatternError::NoWords)?,
                _ => {}
            }
        }
        match open {
            0 => Ok(Self(text)),
            _ => Err(PatternError::Words),
        }
    }

    /// Does it mean this path, as a whole?
    pub fn fits(self, path: &Path) -> bool {
        glob_match(self.0, path.as_os_str().as_encoded_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("*.fits", "a.fits d/a.fits", "10")]
    #[case("**/*.fits", "a.fits x/y/a.fits a.fit", "110")]
    #[case("n/{a,b{1,2}}*.fits", "n/a.fits n/b2x.fits n/b3.fits", "110")]
    #[case("[!a-c]?", "dx ax d/", "100")]
    #[case("a\\*", "a* ab", "10")]
    #[case("[[]x", "[x x", "10")]
    #[case("[]a]", "] a b", "110")]
    #[case("Ha", "Ha ha", "10")]
    fn a_pattern_means_what_shells_mean(
        #[case] pattern: &str,
        #[case] paths: &str,
        #[case] fit: &str,
    ) {
        let pattern = Pattern::new(pattern).unwrap();
        let found = paths.split(' ').map(|p| pattern.fits(Path::new(p)));
        let found: String = found.map(|f| if f { '1' } else { '0' }).collect();
        assert_eq!(found, fit);
    }

    #[rstest]
    #[case("[ab", PatternError::Class)]
    #[case("[", PatternError::Class)]
    #[case("{a,b", PatternError::Words)]
    #[case("a}", PatternError::NoWords)]
    #[case("a\\", PatternError::Backslash)]
    fn what_cannot_be_read_is_said(#[case] pattern: &str, #[case] wrong: PatternError) {
        assert_eq!(Pattern::new(pattern).unwrap_err(), wrong);
    }
}
