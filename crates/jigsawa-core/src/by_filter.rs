//! One setting for all filters, and others for some of them.

use crate::filter::Filter;

/// A setting that single filters may have otherwise.
#[derive(Debug, Clone, PartialEq)]
pub struct ByFilter<T> {
    /// For every filter without its own.
    pub all: Option<T>,
    /// Of single filters.
    pub own: Vec<(Filter, T)>,
}

impl<T> Default for ByFilter<T> {
    fn default() -> Self {
        Self {
            all: None,
            own: Vec::new(),
        }
    }
}

impl<T> From<Option<T>> for ByFilter<T> {
    fn from(all: Option<T>) -> Self {
        Self {
            all,
            own: Vec::new(),
        }
    }
}

impl<T> ByFilter<T> {
    /// What holds for a filter; what holds for all where it is not known.
    pub fn of(&self, filter: Option<&Filter>) -> Option<&T> {
        let own = self.own.iter().find(|(f, _)| Some(f) == filter);
        own.map(|(_, value)| value).or(self.all.as_ref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_filters_own_comes_before_what_holds_for_all() {
        let setting = ByFilter {
            all: Some(1),
            own: vec![(Filter::Ha, 2)],
        };
        assert_eq!(setting.of(Some(&Filter::Ha)), Some(&2));
        assert_eq!(setting.of(Some(&Filter::Oiii)), Some(&1));
        assert_eq!(setting.of(None), Some(&1));
        assert_eq!(ByFilter::<u8>::from(None).of(Some(&Filter::Ha)), None);
    }
}
