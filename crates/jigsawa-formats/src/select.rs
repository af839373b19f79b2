//! One of several images of a file: `FILE[2]` is the second one, `FILE[NAME]` the one whose header gives it that name.

use std::borrow::Cow;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

/// Which image of a file is meant.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Choice {
    /// By its number among the images with pixels, from 1 on.
    Number(usize),
    /// By its EXTNAME, whatever its case.
    Name(String),
}

impl std::fmt::Display for Choice {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Number(n) => write!(f, "number {n}"),
            Self::Name(name) => write!(f, "called '{name}'"),
        }
    }
}

/// The file that a path leads to, and which of its images is meant. What exists by its whole name is that file; brackets
/// after the name of a file that exists choose an image.
pub fn split(path: &Path) -> (Cow<'_, Path>, Option<Choice>) {
    let whole = (Cow::Borrowed(path), None);
    let Some(text) = path.to_str().and_then(|t| t.strip_suffix(']')) else {
        return whole;
    };
    let Some((file, choice)) = text.rsplit_once('[') else {
        return whole;
    };
    let choice = choice.trim();
    if choice.is_empty() || path.exists() || !Path::new(file).is_file() {
        return whole;
    }
    let choice = match choice.parse() {
        Ok(number) => Choice::Number(number),
        Err(_) => Choice::Name(choice.to_owned()),
    };
    (Cow::Owned(PathBuf::from(file)), Some(choice))
}

/// The file alone.
pub fn file(path: &Path) -> Cow<'_, Path> {
    split(path).0
}

/// Another spelling of the file, with the brackets of the path behind it.
#[must_use]
pub fn respelled(path: &Path, other: PathBuf) -> PathBuf {
    let own = file(path);
    let brackets = path.as_os_str().len() - own.as_os_str().len();
    if brackets == 0 {
        return other;
    }
    let text = path.to_string_lossy();
    let mut spelled = OsString::from(other);
    spelled.push(&text[text.len() - brackets..]);
    spelled.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn brackets_choose_an_image_of_a_file_that_is_there() {
        let dir = tempfile::tempdir().unwrap();
        let at = |n: &str| dir.path().join(n);
        std::fs::write(at("a.fits"), "x").unwrap();
        std::fs::write(at("b[1].fits"), "x").unwrap();
        std::fs::write(at("c[2]"), "x").unwrap();
        let choice = |n: &str| split(&at(n)).1;
        assert_eq!(choice("a.fits[2]"), Some(Choice::Number(2)));
        assert_eq!(choice("a.fits[SCI]"), Some(Choice::Name("SCI".to_owned())));
        for whole in ["a.fits", "b[1].fits", "c[2]", "none.fits[2]", "a.fits[]"] {
            assert_eq!(choice(whole), None, "{whole}");
        }
        assert_eq!(file(&at("a.fits[2]")), at("a.fits"));
        let other = respelled(&at("a.fits[2]"), PathBuf::from("../a.fits"));
        assert_eq!(other, Path::new("../a.fits[2]"));
    }
}
