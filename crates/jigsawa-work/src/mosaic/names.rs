//! Which panel a frame shows, and what the panel is called.

use jigsawa_core::number::Convert;
use std::collections::{BTreeMap, BTreeSet};

use super::settings::MosaicSettings;
use crate::frames::{Frame, stem};
use crate::trouble::Trouble;

/// What users, headers and names say of each frame's panel.
pub struct PanelNames {
    /// Said outright: by an option, a pattern or a card.
    said: Vec<Option<String>>,
    /// Words of the file's name that may be the panel's.
    words: Vec<BTreeSet<String>>,
}

impl PanelNames {
    /// Reads what is said.
    pub fn new(frames: &[Frame], wanted: &MosaicSettings<'_>) -> Result<Self, Trouble> {
        for (name, _) in wanted.panels {
            if !frames.iter().any(|f| f.is_called(name)) {
                return Err(Trouble::NoSuchFrame {
                    option: "--panel",
                    name: name.clone(),
                    frames: frames.iter().map(Frame::name).collect(),
                });
            }
        }
        let said = |f: &Frame| {
            let by_hand = wanted.panels.iter().find(|(name, _)| f.is_called(name));
            let by_pattern = || by_pattern(wanted.panel_names?, &stem(&f.path));
            let by_card = || f.file.header().text("PANEL").filter(|t| !t.is_empty());
            by_hand
                .map(|(_, panel)| panel.clone())
                .or_else(by_pattern)
                .or_else(by_card)
        };
        Ok(Self {
            said: frames.iter().map(said).collect(),
            words: frames.iter().map(|f| words(&stem(&f.path))).collect(),
        })
    }

    /// Are two frames said to show one panel?
    pub fn same(&self, a: usize, b: usize) -> bool {
        self.said[a].is_some() && self.said[a] == self.said[b]
    }
}

/// The text in the place of PANEL.
fn by_pattern(pattern: &str, name: &str) -> Option<String> {
    let (before, after) = pattern.split_once("PANEL")?;
    // The shortest panel's name that leaves both sides matched.
    for from in 0..name.len() {
        if !name.is_char_boundary(from) || !fits(before, &name[..from]) {
            continue;
        }
        for to in from + 1..=name.len() {
            if name.is_char_boundary(to) && fits(after, &name[to..]) {
                return Some(name[from..to].to_owned());
            }
        }
    }
    None
}

/// Does a text fit a pattern, in which * stands for anything?
fn fits(pattern: &str, text: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == text,
        Some((start, rest)) => text.strip_prefix(start).is_some_and(|left| {
            (0..=left.len()).any(|i| left.is_char_boundary(i) && fits(rest, &left[i..]))
        }),
    }
}

fn words(name: &str) -> BTreeSet<String> {
    let parts = name.split(|c: char| !c.is_alphanumeric());
    parts.filter(|w| !w.is_empty()).map(str::to_owned).collect()
}

/// A panel: its name and frames.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Panel {
    /// Its name.
    pub name: String,
    /// Numbers of its frames.
    pub frames: Vec<usize>,
}

/// Names groups of frames that lie on each other. `places` are the middles of the groups as the canvas is shown, x to
/// the right and y down, in units of a panel.
pub fn panels(names: &PanelNames, groups: Vec<Vec<usize>>, places: &[(f64, f64)]) -> Vec<Panel> {
    let mut taken: BTreeSet<String> = BTreeSet::new();
    let by_words = by_words(names, &groups);
    let by_place = by_place(places);
    groups
        .into_iter()
        .enumerate()
        .map(|(k, frames)| {
            let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
            for i in &frames {
                if let Some(said) = &names.said[*i] {
                    *counts.entry(said).or_default() += 1;
                }
            }
            let said = counts
                .into_iter()
                .max_by_key(|(_, n)| *n)
                .map(|(name, _)| name.to_owned());
            let usual = || {
                by_words
                    .as_ref()
                    .map_or_else(|| by_place[k].clone(), |words| words[k].clone())
            };
            let mut name = said.unwrap_or_else(usual);
            while !taken.insert(name.clone()) {
                name.push('\'');
            }
            Panel { name, frames }
        })
        .collect()
}

/// A word of each group's files that all of its frames have and no other group's does.
fn by_words(names: &PanelNames, groups: &[Vec<usize>]) -> Option<Vec<String>> {
    groups
        .iter()
        .map(|group| {
            let (first, rest) = group.split_first()?;
            let mut common = names.words[*first].clone();
            for i in rest {
                common = common.intersection(&names.words[*i]).cloned().collect();
            }
            for other in groups.iter().filter(|g| *g != group).flatten() {
                common = common.difference(&names.words[*other]).cloned().collect();
            }
            // The shortest is the panel's, and not a date or a number of the frame.
            common.into_iter().min_by_key(|w| (w.len(), w.clone()))
        })
        .collect()
}

/// Rows as letters from the top, columns as numbers from the left.
fn by_place(places: &[(f64, f64)]) -> Vec<String> {
    let mut order: Vec<usize> = (0..places.len()).collect();
    order.sort_by(|a, b| places[*a].1.total_cmp(&places[*b].1));
    let mut names = vec![String::new(); places.len()];
    let mut rows: Vec<Vec<usize>> = Vec::new();
    for i in order {
        let near = rows
            .last()
            .and_then(|r| r.last())
            .is_some_and(|l| places[i].1 - places[*l].1 < 0.5);
        match rows.last_mut().filter(|_| near) {
            Some(row) => row.push(i),
            None => rows.push(vec![i]),
        }
    }
    for (r, mut row) in rows.into_iter().enumerate() {
        row.sort_by(|a, b| places[*a].0.total_cmp(&places[*b].0));
        let letter = |mut r: usize| {
            let mut word = String::new();
            loop {
                word.insert(0, char::from(b'A' + (r % 26).byte()));
                r /= 26;
                if r == 0 {
                    return word;
                }
                r -= 1;
            }
        };
        for (c, i) in row.into_iter().enumerate() {
            names[i] = format!("{}{}", letter(r), c + 1);
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_finds_the_panel_in_a_name() {
        assert_eq!(
            by_pattern("reef_PANEL_*", "reef_A2_Ha"),
            Some("A2".to_owned())
        );
        assert_eq!(
            by_pattern("*-pPANEL", "2026-01-03-p12"),
            Some("12".to_owned())
        );
        assert_eq!(by_pattern("reef_PANEL_*", "veil_A2_Ha"), None);
        assert!(fits("a*c", "abbc") && !fits("a*c", "abbd") && fits("*", ""));
    }

    #[test]
    fn panels_are_named_by_what_their_files_have_in_common_or_by_their_place() {
        let names = |files: [&str; 4]| PanelNames {
            said: vec![None; 4],
            words: files.iter().map(|f| words(f)).collect(),
        };
        let groups = || vec![vec![0, 2], vec![1, 3]];
        let places = [(1.0, 0.0), (0.1, 0.1)];
        let got = |n: &PanelNames| -> Vec<String> {
            panels(n, groups(), &places)
                .into_iter()
                .map(|p| p.name)
                .collect()
        };
        let words = names(["reef_A1_Ha", "reef_A2_Ha", "reef_A1_OIII", "reef_A2_OIII"]);
        assert_eq!(got(&words), ["A1", "A2"]);
        assert_eq!(got(&names(["m1", "m2", "m3", "m4"])), ["A2", "A1"]);
        let said = PanelNames {
            said: vec![
                Some("north".to_owned()),
                None,
                None,
                Some("south".to_owned()),
            ],
            ..words
        };
        assert_eq!(got(&said), ["north", "south"]);
        assert!(said.same(0, 0) && !said.same(0, 2) && !said.same(1, 2));
    }

    #[test]
    fn rows_go_on_after_z() {
        let places: Vec<(f64, f64)> = (0..28).map(|r| (0.0, f64::from(r))).collect();
        let names = by_place(&places);
        assert_eq!(
            (names[0].as_str(), names[25].as_str(), names[27].as_str()),
            ("A1", "Z1", "AB1")
        );
    }
}
