//! What is doubtful about frames by their headers: cards that are missing or odd, settings that most do not have, flats for no light.

use std::collections::HashMap;

use super::group::filter_label;
use super::judged::Judged;
use super::quantity::Known;
use crate::frame::{FrameFacts, Kind};

/// A chip this many degrees off the temperature that was asked for has another dark current.
const MOST_OFF_CELSIUS: f64 = 1.5;

/// What is odd about a header by itself.
pub(super) fn header_doubts(facts: &FrameFacts) -> Vec<String> {
    let mut doubts = facts.notes();
    if let (Some(is), Some(asked)) = (facts.celsius, facts.set_celsius)
        && (is - asked).abs() > MOST_OFF_CELSIUS
    {
        doubts.push(format!("chip at {is:.1} \u{b0}C, {asked:.1} was asked for"));
    }
    if facts.kind == Kind::Light
        && facts.filter.is_none()
        && facts.colour_pattern.is_none()
        && facts.planes == 1
    {
        doubts.push(
            facts
                .filter_card
                .as_ref()
                .map_or("its header names no filter".to_owned(), |card| {
                    format!("its header calls the filter '{card}', which is none that is known")
                }),
        );
    }
    doubts
}

/// The value that more than half of those who have one have.
fn usual(values: impl Iterator<Item = Option<String>>) -> Option<String> {
    let mut counts: HashMap<String, usize> = HashMap::new();
    let mut all = 0;
    for v in values.flatten() {
        *counts.entry(v).or_default() += 1;
        all += 1;
    }
    counts
        .into_iter()
        .find(|(_, n)| 2 * n > all)
        .map(|(v, _)| v)
}

/// Settings of a light that most lights of its filter do not have.
pub(super) fn settings_doubts(frames: &[Known<'_>], judged: &mut [Judged]) {
    type Setting = fn(&FrameFacts) -> Option<String>;
    let settings: [(&str, Setting); 4] = [
        ("gain", |f| f.gain_setting.map(|v| v.to_string())),
        ("offset", |f| f.offset_setting.map(|v| v.to_string())),
        ("binning", |f| f.binning.map(|(x, y)| format!("{x} x {y}"))),
        ("size", |f| {
            Some(format!("{} x {}", f.size.width(), f.size.height()))
        }),
    ];
    // Lights of one filter and camera.
    let mut alike: HashMap<_, Vec<usize>> = HashMap::new();
    for (i, k) in frames.iter().enumerate() {
        if k.facts.kind == Kind::Light {
            let key = (filter_label(k.facts), k.facts.camera.as_deref());
            alike.entry(key).or_default().push(i);
        }
    }
    for members in alike.values() {
        for (name, of) in settings {
            let Some(theirs) = usual(members.iter().map(|i| of(frames[*i].facts))) else {
                continue;
            };
            for i in members {
                match of(frames[*i].facts) {
                    Some(mine) if mine != theirs => judged[*i].doubts.push(format!(
                        "{name} {mine}, most lights of its filter have {theirs}"
                    )),
                    _ => {}
                }
            }
        }
    }
}

/// Flats whose filter no light has, when the lights' filters are known.
pub(super) fn flat_doubts(frames: &[Known<'_>], judged: &mut [Judged]) {
    let labels = |kind: Kind| {
        let mut all: Vec<String> = frames
            .iter()
            .filter(|k| k.facts.kind == kind)
            .filter_map(|k| filter_label(k.facts))
            .collect();
        all.sort();
        all.dedup();
        all
    };
    let (lights, flats) = (labels(Kind::Light), labels(Kind::Flat));
    if lights.is_empty() {
        return;
    }
    let without: Vec<&str> = lights
        .iter()
        .filter(|l| !flats.contains(l))
        .map(String::as_str)
        .collect();
    for (k, j) in frames.iter().zip(judged) {
        if k.facts.kind != Kind::Flat || k.facts.colour_pattern.is_some() {
            continue;
        }
        let label = filter_label(k.facts);
        if label.as_ref().is_some_and(|l| lights.contains(l)) {
            continue;
        }
        let says = k
            .facts
            .filter_card
            .as_ref()
            .map_or("names no filter".to_owned(), |c| {
                format!("calls the filter '{c}'")
            });
        let missing = if without.is_empty() {
            String::new()
        } else {
            format!("; no flat is for {}", without.join(", "))
        };
        j.doubts.push(format!(
            "its header {says}, the lights have {}{missing}",
            lights.join(", ")
        ));
    }
}

/// Lights that lie on no field with others, while others do.
pub(super) fn field_doubts(frames: &[Known<'_>], judged: &mut [Judged]) {
    let mut count: HashMap<usize, usize> = HashMap::new();
    for field in frames.iter().filter_map(|k| k.compared?.field) {
        *count.entry(field).or_default() += 1;
    }
    if !count.values().any(|n| *n > 1) {
        return;
    }
    for (k, j) in frames.iter().zip(judged) {
        let Some(compared) = k.compared else { continue };
        let doubt = match compared.field {
            None => "too few stars to tell its field",
            Some(f) if count[&f] == 1 => "its stars match those of no other frame",
            Some(_) => continue,
        };
        j.doubts.push(doubt.to_owned());
    }
}
