//! Options that may be given for one filter alone, as `OIII=VALUE`.

use std::ffi::OsStr;
use std::fmt::Display;
use std::marker::PhantomData;

use clap::builder::{EnumValueParser, PossibleValue, TypedValueParser};
use clap::{Arg, Command, ValueEnum};
use jigsawa_core::by_filter::ByFilter;
use jigsawa_core::filter::Filter;

/// A value, and the filter that it is for; for all where none is named.
#[derive(Debug, Clone, PartialEq)]
pub struct OfFilter<T> {
    pub filter: Option<Filter>,
    pub value: T,
}

/// The filter that a word is for, and the rest of it.
fn parted(text: &str) -> (Option<Filter>, &str) {
    let named = text
        .split_once('=')
        .and_then(|(name, rest)| Some((Filter::named_by_hand(name.trim())?, rest.trim())));
    named.map_or((None, text), |(filter, rest)| (Some(filter), rest))
}

/// A value by its own reading.
pub fn of_filter<T, E: Display>(
    text: &str,
    value: impl Fn(&str) -> Result<T, E>,
) -> Result<OfFilter<T>, E> {
    let (filter, rest) = parted(text);
    value(rest).map(|value| OfFilter { filter, value })
}

/// Reads one of a few words.
#[derive(Clone)]
pub struct Choice<T>(PhantomData<T>);

impl<T> Choice<T> {
    pub const fn new() -> Self {
        Self(PhantomData)
    }
}

impl<T: ValueEnum + Clone + Send + Sync + 'static> TypedValueParser for Choice<T> {
    type Value = OfFilter<T>;

    fn parse_ref(
        &self,
        command: &Command,
        arg: Option<&Arg>,
        value: &OsStr,
    ) -> Result<Self::Value, clap::Error> {
        let (filter, rest) = value
            .to_str()
            .map_or((None, value), |text| match parted(text) {
                (None, _) => (None, value),
                (filter, rest) => (filter, OsStr::new(rest)),
            });
        let value = EnumValueParser::<T>::new().parse_ref(command, arg, rest)?;
        Ok(OfFilter { filter, value })
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        let all = T::value_variants();
        Some(Box::new(
            all.iter().filter_map(ValueEnum::to_possible_value),
        ))
    }
}

/// All that was said of one option.
///
/// # Errors
/// A filter's value, or that of all, is given twice.
pub fn by_filter<T: Clone>(given: &[OfFilter<T>]) -> Result<ByFilter<T>, &'static str> {
    let mut setting = ByFilter::default();
    for one in given {
        let twice = match &one.filter {
            None => setting.all.replace(one.value.clone()).is_some(),
            Some(filter) => {
                let known = setting.own.iter().any(|(f, _)| f == filter);
                setting.own.push((filter.clone(), one.value.clone()));
                known
            }
        };
        if twice {
            return Err(
                "an option of one filter is given twice: write it once for all (--reject sigma), and once for each filter that has its own \
                 (--reject OIII=median)",
            );
        }
    }
    Ok(setting)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_is_for_all_or_for_one() {
        let number = |t: &str| t.parse::<u8>();
        assert_eq!(of_filter("7", number).unwrap().filter, None);
        let one = of_filter("o3=7", number).unwrap();
        assert_eq!((one.filter, one.value), (Some(Filter::Oiii), 7));
        assert!(of_filter("o3=x", number).is_err());
        let all = |words: &[&str]| {
            let all: Vec<_> = words
                .iter()
                .map(|w| of_filter(w, number).unwrap())
                .collect();
            by_filter(&all)
        };
        assert_eq!(all(&["1", "Ha=2"]).unwrap().of(Some(&Filter::Ha)), Some(&2));
        assert!(all(&["1", "2"]).is_err());
        assert!(all(&["Ha=1", "halpha=2"]).is_err());
    }
}
