//! A sentence in its parts, and what sentences are made of.

/// A sentence in parts.
pub(super) struct Sentence {
    pub(super) message: String,
    pub(super) file: Option<String>,
    pub(super) hint: Option<String>,
}

/// One of several, or the words for one.
pub(super) fn list(items: &[String]) -> String {
    items.join(", ")
}

/// The nearest of some names, when it is near enough to be a slip.
pub(super) fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = name.to_lowercase();
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(&wanted, &k.to_lowercase()), k))
        .filter(|(d, k)| *d <= 1 + k.chars().count() / 4)
        .min_by_key(|(d, _)| *d)
        .map(|(_, k)| k)
}

/// The nearest of some names as a question; nothing where none is near.
pub fn did_you_mean<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(name, known).map_or(String::new(), |n| format!("Did you mean {n}? "))
}

/// A mix with a mark under the place that is meant.
pub(super) fn marked(text: &str, column: usize) -> String {
    format!("  {text}\n  {}^", " ".repeat(column.saturating_sub(1)))
}

pub(super) fn plain(message: String) -> Sentence {
    Sentence {
        message,
        file: None,
        hint: None,
    }
}

impl Sentence {
    pub(super) fn on(mut self, file: impl Into<String>) -> Self {
        self.file = Some(file.into());
        self
    }

    pub(super) fn mend(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}
