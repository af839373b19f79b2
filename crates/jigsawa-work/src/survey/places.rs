//! Where lights lie on each other, kept between runs: matching the stars of ten thousand frames takes a minute, and a
//! second look at the same night should not.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use jigsawa_core::survey::Area;
use jigsawa_core::survey::compare::OnField;
use serde::Serialize;

use crate::cache::{self, Store};

/// What a place depends on besides both files.
#[derive(Serialize)]
struct Way {
    area: Area,
}

impl cache::Way for Way {
    const KIND: &'static str = "places";
}

/// Places of one light on the fields of others, by their fingerprints; `None` for no place there.
type Known = HashMap<String, Option<OnField>>;

/// What is known of a light.
#[derive(Default)]
struct Light {
    /// From an earlier run.
    kept: Known,
    /// Asked for in this run: what is kept for the next.
    asked: Known,
    /// Something was found that was not kept.
    found: bool,
}

/// The places of all lights of a survey.
pub struct Places<'a> {
    store: &'a Store,
    way: Way,
    lights: Mutex<HashMap<PathBuf, Light>>,
}

impl<'a> Places<'a> {
    /// Places that a store keeps, of lights that are measured within this area.
    pub fn new(store: &'a Store, area: Area) -> Self {
        Self {
            store,
            way: Way { area },
            lights: Mutex::default(),
        }
    }

    /// The place of a light on the field of another: as it is kept, or found now.
    pub fn recall(
        &self,
        anchor: &Path,
        light: &Path,
        find: &dyn Fn() -> Option<OnField>,
    ) -> Option<OnField> {
        let Some(anchor) = self.store.fingerprint(anchor) else {
            return find();
        };
        let lights = || self.lights.lock().unwrap_or_else(PoisonError::into_inner);
        let is_new = !lights().contains_key(light);
        if is_new {
            let kept = self.store.load(light, &self.way).unwrap_or_default();
            lights().entry(light.to_owned()).or_default().kept = kept;
        }
        let kept = lights()
            .get(light)
            .and_then(|l| l.kept.get(&anchor).cloned());
        let found = kept.is_none();
        let on = kept.unwrap_or_else(find);
        if let Some(l) = lights().get_mut(light) {
            l.asked.insert(anchor, on.clone());
            l.found |= found;
        }
        on
    }

    /// Keeps what was found for the next run; what nobody asked for any more goes.
    pub fn keep(&self) {
        let lights = self.lights.lock().unwrap_or_else(PoisonError::into_inner);
        for (path, light) in lights.iter().filter(|(_, l)| l.found) {
            self.store.keep(path, &self.way, &light.asked);
        }
    }
}
