//! How each frame was tied and how well it lies: the rows of the layout, and why a frame has none.

use jigsawa_core::layout::{LayoutFrame, PlacementRecord};
use jigsawa_core::matching::{FoundBy, MatchError, MatchErrors};
use jigsawa_core::mosaic::solve::untied;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Model, Placement};
use jigsawa_core::verdict::Verdict;

use super::{Solved, Vector};
use crate::register::Row;

impl Solved<'_> {
    /// How a frame was tied, and where it lies: the row of the layout.
    pub(super) fn row(
        &self,
        i: usize,
        placed: Result<(&Placement, Model), Option<MatchError>>,
        vectors: &[Vector],
        disagreeing: &[(usize, String)],
    ) -> LayoutFrame {
        let other = self.others.iter().find(|t| t.new == i);
        let own: Vec<&Vector> = vectors.iter().filter(|v| v.frame == i).collect();
        let lengths: Vec<f64> = own.iter().map(|v| v.off[0].hypot(v.off[1])).collect();
        let weights: f64 = own.iter().map(|v| v.weight).sum();
        let mean2 = own
            .iter()
            .zip(&lengths)
            .map(|(v, l)| v.weight * l * l)
            .sum::<f64>()
            / weights.max(1e-30);
        let by = match other {
            Some(t) if t.by_pattern => FoundBy::Pattern,
            Some(_) => FoundBy::Header,
            None if i == self.problem.reference => FoundBy::Reference,
            None => FoundBy::Stars,
        };
        let coverage = placed.ok().map(|(map, _)| {
            let size = self.frames()[i].facts.size;
            let third = |v: f64, n: usize| (3.0 * (v + 0.5) / n.real()).max(0.0).index().min(2);
            let mut counts = [0; 9];
            for v in &own {
                let p = map.apply(v.at);
                counts[3 * third(p.y, size.height()) + third(p.x, size.width())] += 1;
            }
            counts
        });
        let mut notes: Vec<String> = disagreeing
            .iter()
            .filter(|(k, _)| *k == i)
            .map(|(_, s)| s.clone())
            .collect();
        if let Some(t) = other {
            let known = self.frames()[t.known].name();
            notes.push(if t.by_pattern {
                format!("its stars tie it to no panel: it lies where its pattern agrees with that of '{known}'")
            } else {
                format!(
                    "its stars tie it to no panel: it lies where its WCS says, beside '{known}', unchecked. Look at its seams"
                )
            });
        }
        let record = placed.ok().map(|(map, model)| PlacementRecord {
            matrix: map.rows(),
            distortion: map.distortion().cloned(),
            model: (by != FoundBy::Reference).then_some(model),
            by,
            pairs: own.len(),
            coverage,
            errors: if by == FoundBy::Header {
                by_header()
            } else {
                MatchErrors {
                    rms_px: mean2.sqrt(),
                    max_px: lengths.iter().copied().fold(0.0, f64::max),
                    crossval_rms_px: self.solution.unseen_px,
                    corner_sigma_px: self.solution.corner_sigma_px[i],
                }
            },
            // In its own middle: a panel may lie far from the canvas's.
            described: map.describe(map.invert().apply(self.frames()[i].facts.size.centre())),
        });
        let verdict = match &record {
            Some(_) => Verdict::Used,
            None => Verdict::LeftOut(self.why_left_out(i, placed.err().flatten())),
        };
        Row {
            frame: &self.frames()[i],
            catalogue: self.field.catalogues[i].as_ref().ok(),
            verdict,
            record,
            hint: None,
            notes,
        }
        .write()
    }

    /// Why a frame is tied to nothing, and what would help.
    pub(super) fn why_left_out(&self, i: usize, refused: Option<MatchError>) -> String {
        if let Err(error) = &self.field.catalogues[i] {
            return error.to_string();
        }
        if let Some(refused) = refused {
            return format!(
                "{} (a larger overlap would tie it, or a panel between)",
                of_panels(refused)
            );
        }
        if let Some((known, stars)) = self.field.against_its_wcs(i) {
            return format!(
                "its WCS puts it beside '{}', but none of the {stars} stars that both would share there meets: the WCS is \
                 wrong, or it shows another field",
                self.frames()[known].name()
            );
        }
        let stars = self.field.spots[i].len();
        let apart = untied(self.problem, self.ties);
        let with = apart
            .iter()
            .find(|g| g.contains(&i))
            .filter(|g| g.len() > 1);
        let tied = match with {
            Some(group) => {
                let others = group.iter().filter(|k| **k != i);
                let others: Vec<String> = others
                    .map(|k| format!("'{}'", self.frames()[*k].name()))
                    .collect();
                let (shown, more) = others.split_at(others.len().min(MOST_NAMED));
                let more = match more.len() {
                    0 => String::new(),
                    n => format!(" and {n} more"),
                };
                format!(
                    "it is tied to {}{more}, and together to no panel of the others",
                    shown.join(", ")
                )
            }
            None => format!("none of its {stars} stars is found in another panel"),
        };
        let advice = match (stars < 30, self.frames()[i].facts.wcs.is_some()) {
            (true, false) => "few stars are found in it: a WCS in its header would place it",
            (_, false) => {
                "another field, or an overlap of less than some 3 %? A WCS in its header would tell"
            }
            (_, true) => "and by its WCS it overlaps none: another field, or a gap between panels",
        };
        format!("{tied} ({advice})")
    }
}

/// What is wrong with a place among panels.
fn of_panels(error: MatchError) -> String {
    match error {
        MatchError::TooRough {
            pairs,
            rms_px,
            allowed_px,
        } => format!(
            "its {pairs} stars meet those of other panels only to {rms_px:.2} px rms, {allowed_px} px is allowed"
        ),
        MatchError::TooLoose {
            pairs,
            corner_sigma_px,
            ..
        } if !corner_sigma_px.is_finite() => {
            format!("the {pairs} stars that it shares with other panels do not fix its place")
        }
        MatchError::NoMatch { best, tried } => {
            format!("only {best} of its {tried} stars meet any of another panel")
        }
        other => other.to_string(),
    }
}

/// So many frames of another piece are named.
const MOST_NAMED: usize = 3;

/// Headers are solved to about a pixel, and nothing has checked these.
const HEADER_PX: f64 = 1.0;

fn by_header() -> MatchErrors {
    MatchErrors {
        rms_px: HEADER_PX,
        max_px: HEADER_PX,
        crossval_rms_px: HEADER_PX,
        corner_sigma_px: HEADER_PX,
    }
}
