//! The cheapest cut through a field of cells: greatest flow (Dinic 1970, Soviet Math. Dokl. 11, 1277).
//!
//! By the theorem of Ford & Fulkerson (1956, Canad. J. Math. 8, 399) the cheapest set of edges that parts sources from
//! sinks is where the greatest flow between them is stopped. Cells are joined to the four beside them, at the same
//! price in both directions.

use std::collections::VecDeque;

/// What a cell is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Role {
    /// No part of the field.
    Outside,
    /// To be parted.
    Open,
    /// On the first side for sure.
    First,
    /// On the second side for sure.
    Second,
}

/// Prices of cuts: right of each cell and below it, row after row.
pub(super) struct Network {
    pub(super) width: usize,
    pub(super) roles: Vec<Role>,
    pub(super) right: Vec<u32>,
    pub(super) below: Vec<u32>,
}

/// What is left of an edge, from each of its ends.
struct Flow<'a> {
    field: &'a Network,
    /// From a cell to the one right, left, below, above.
    left_over: [Vec<u32>; 4],
    levels: Vec<u32>,
    next: Vec<u8>,
}

const FAR: u32 = u32::MAX;

/// Which cells lie on the second side of the cheapest cut. Cells that no source reaches are on the second side
/// only if a sink's side is known there.
pub(super) fn cut(field: &Network) -> Vec<bool> {
    let n = field.roles.len();
    let mut flow = Flow {
        field,
        left_over: [
            field.right.clone(),
            field.right.clone(),
            field.below.clone(),
            field.below.clone(),
        ],
        levels: vec![FAR; n],
        next: vec![0; n],
    };
    // Prices are kept at the first end of an edge: those leftwards and upwards are moved to the other end.
    for i in (0..n).rev() {
        flow.left_over[1][i] = if i % field.width > 0 {
            field.right[i - 1]
        } else {
            0
        };
        flow.left_over[3][i] = if i >= field.width {
            field.below[i - field.width]
        } else {
            0
        };
    }
    while flow.reach() {
        flow.next.fill(0);
        for i in 0..n {
            if field.roles[i] == Role::First {
                while flow.push(i) {}
            }
        }
    }
    (0..n)
        .map(|i| flow.levels[i] == FAR && field.roles[i] != Role::Outside)
        .collect()
}

impl Flow<'_> {
    fn beside(&self, i: usize, way: usize) -> Option<usize> {
        let w = self.field.width;
        let j = match way {
            0 => ((i % w) + 1 < w).then(|| i + 1),
            1 => (!i.is_multiple_of(w)).then(|| i - 1),
            2 => (i + w < self.field.roles.len()).then(|| i + w),
            _ => i.checked_sub(w),
        }?;
        (self.field.roles[j] != Role::Outside).then_some(j)
    }

    /// How many steps each cell is from a source along edges with something left; does a way lead to a sink?
    fn reach(&mut self) -> bool {
        self.levels.fill(FAR);
        let mut queue: VecDeque<usize> = VecDeque::new();
        for (i, role) in self.field.roles.iter().enumerate() {
            if *role == Role::First {
                self.levels[i] = 0;
                queue.push_back(i);
            }
        }
        let mut found = false;
        while let Some(i) = queue.pop_front() {
            if self.field.roles[i] == Role::Second {
                found = true;
                continue;
            }
            for way in 0..4 {
                if self.left_over[way][i] == 0 {
                    continue;
                }
                if let Some(j) = self.beside(i, way).filter(|j| self.levels[*j] == FAR) {
                    self.levels[j] = self.levels[i] + 1;
                    queue.push_back(j);
                }
            }
        }
        found
    }

    /// Sends as much as one way from a source takes; was there a way?
    fn push(&mut self, source: usize) -> bool {
        let mut path: Vec<(usize, usize)> = Vec::new();
        let mut i = source;
        loop {
            if self.field.roles[i] == Role::Second {
                let most = path.iter().map(|(p, way)| self.left_over[*way][*p]).min();
                let Some(most) = most else { return false };
                for (p, way) in path {
                    self.left_over[way][p] -= most;
                    if let Some(q) = self.beside(p, way) {
                        self.left_over[way ^ 1][q] += most;
                    }
                }
                return true;
            }
            let mut stepped = false;
            while self.next[i] < 4 {
                let way = self.next[i] as usize;
                let on = self.beside(i, way).filter(|j| {
                    self.left_over[way][i] > 0 && self.levels[*j] == self.levels[i] + 1
                });
                if let Some(j) = on {
                    path.push((i, way));
                    i = j;
                    stepped = true;
                    break;
                }
                self.next[i] += 1;
            }
            if !stepped {
                let Some((back, _)) = path.pop() else {
                    return false;
                };
                self.next[back] += 1;
                i = back;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A field of open cells between a first and a last column, whose cells cost what is written.
    fn field(costs: &[&[u32]]) -> Network {
        let (w, h) = (costs[0].len() + 2, costs.len());
        let cost = |c: usize, r: usize| {
            if c == 0 || c == w - 1 {
                50
            } else {
                costs[r][c - 1]
            }
        };
        let mut f = Network {
            width: w,
            roles: vec![Role::Open; w * h],
            right: vec![0; w * h],
            below: vec![0; w * h],
        };
        for r in 0..h {
            for c in 0..w {
                let i = r * w + c;
                if c == 0 {
                    f.roles[i] = Role::First;
                } else if c == w - 1 {
                    f.roles[i] = Role::Second;
                }
                f.right[i] = if c + 1 < w {
                    cost(c, r) + cost(c + 1, r)
                } else {
                    0
                };
                f.below[i] = if r + 1 < h {
                    cost(c, r) + cost(c, r + 1)
                } else {
                    0
                };
            }
        }
        f
    }

    #[test]
    fn the_cut_goes_through_the_valley_and_around_the_hill() {
        let f = field(&[
            &[9, 1, 1, 9, 9],
            &[9, 1, 1, 9, 9],
            &[9, 90, 90, 1, 1],
            &[9, 90, 90, 1, 1],
            &[9, 1, 1, 9, 9],
        ]);
        let second = cut(&f);
        let row = |r: usize| second[r * 7..(r + 1) * 7].to_vec();
        // Between the two ones of each row.
        assert_eq!(row(0), [false, false, false, true, true, true, true]);
        assert_eq!(row(2), [false, false, false, false, false, true, true]);
        assert_eq!(row(4)[..3], [false, false, false]);
    }

    #[test]
    fn the_cut_is_as_cheap_as_the_cheapest_of_all() {
        // All ways to part three rows of three cells, one after the other.
        let costs: [&[u32]; 3] = [&[3, 7, 2], &[5, 1, 8], &[4, 6, 3]];
        let f = field(&costs);
        let price = |second: &[bool]| {
            let mut sum = 0u32;
            for i in 0..second.len() {
                let (c, r) = (i % 5, i / 5);
                if c + 1 < 5 && second[i] != second[i + 1] {
                    sum += f.right[i];
                }
                if r + 1 < 3 && second[i] != second[i + 5] {
                    sum += f.below[i];
                }
            }
            sum
        };
        let best = (0..1u32 << 9)
            .map(|bits| {
                let second: Vec<bool> = (0..15)
                    .map(|i| match i % 5 {
                        0 => false,
                        4 => true,
                        c => bits >> ((i / 5) * 3 + c - 1) & 1 == 1,
                    })
                    .collect();
                price(&second)
            })
            .min();
        assert_eq!(Some(price(&cut(&f))), best);
    }

    #[test]
    fn a_field_without_a_second_side_stays_whole() {
        let mut f = field(&[&[1, 1], &[1, 1]]);
        for r in &mut f.roles {
            if *r == Role::Second {
                *r = Role::Outside;
            }
        }
        assert!(cut(&f).iter().all(|s| !s));
    }
}
