//! Mixes computed over runs of pixels.
//!
//! Missing stays missing: whatever touches a NaN is NaN. Everything else has a value: dividing by
//! zero gives zero, and a power of a negative value is the negative of its size's power, so that noise
//! around the sky never makes holes. Conditions are 1 where they hold and 0 where not; any value but
//! 0 counts as holding.

use super::{BoundMix, Expr, Function, Operator};

/// Pixels computed at a time: temporary runs then live on the stack.
const RUN: usize = 256;

impl BoundMix {
    /// Computes the mix for a run of pixels. `inputs` are runs of the same length as `out`; `white` is
    /// the level at which `screen` is full.
    pub fn eval(&self, inputs: &[&[f32]], white: f32, out: &mut [f32]) {
        let mut runs: Vec<&[f32]> = Vec::with_capacity(inputs.len());
        for start in (0..out.len()).step_by(RUN) {
            let end = (start + RUN).min(out.len());
            runs.clear();
            runs.extend(inputs.iter().map(|i| &i[start..end]));
            let run = &mut out[start..end];
            eval(&self.root, &runs, white, run);
            // What has left the range of floats on the way is no value.
            for v in run.iter_mut().filter(|v| v.is_infinite()) {
                *v = f32::NAN;
            }
        }
    }
}

fn eval(e: &Expr<usize>, inputs: &[&[f32]], white: f32, out: &mut [f32]) {
    match e {
        Expr::Number(v, _) => out.fill(*v),
        Expr::Input(i) => out.copy_from_slice(inputs[*i]),
        Expr::Negative(a) => {
            eval(a, inputs, white, out);
            for v in out.iter_mut() {
                *v = -*v;
            }
        }
        Expr::Not(a) => {
            eval(a, inputs, white, out);
            for v in out.iter_mut() {
                *v = keep_missing(*v, truth(*v == 0.0));
            }
        }
        Expr::Both(op, a, b) => {
            eval(a, inputs, white, out);
            with_run(out.len(), |right| {
                eval(b, inputs, white, right);
                both(*op, out, right);
            });
        }
        Expr::Call(f, of) => call(*f, of, inputs, white, out),
    }
}

/// A temporary run on the stack.
fn with_run(len: usize, work: impl FnOnce(&mut [f32])) {
    let mut run = [0.0f32; RUN];
    work(&mut run[..len]);
}

fn each(out: &mut [f32], right: &[f32], f: impl Fn(f32, f32) -> f32) {
    for (a, b) in out.iter_mut().zip(right) {
        *a = f(*a, *b);
    }
}

const fn truth(holds: bool) -> f32 {
    if holds { 1.0 } else { 0.0 }
}

fn keep_missing(of: f32, value: f32) -> f32 {
    if of.is_nan() { of } else { value }
}

/// A comparison: missing when one side is.
fn compare(a: f32, b: f32, holds: bool) -> f32 {
    keep_missing(a + b, truth(holds))
}

fn both(op: Operator, out: &mut [f32], right: &[f32]) {
    match op {
        Operator::Plus => each(out, right, |a, b| a + b),
        Operator::Minus => each(out, right, |a, b| a - b),
        Operator::Times => each(out, right, |a, b| a * b),
        Operator::Over => each(out, right, |a, b| {
            if b == 0.0 {
                keep_missing(a, 0.0)
            } else {
                a / b
            }
        }),
        Operator::Power => each(out, right, power),
        Operator::Less => each(out, right, |a, b| compare(a, b, a < b)),
        Operator::Greater => each(out, right, |a, b| compare(a, b, a > b)),
        Operator::AtMost => each(out, right, |a, b| compare(a, b, a <= b)),
        Operator::AtLeast => each(out, right, |a, b| compare(a, b, a >= b)),
        Operator::Equal => each(out, right, |a, b| compare(a, b, a == b)),
        Operator::Unequal => each(out, right, |a, b| compare(a, b, a != b)),
        Operator::And => each(out, right, |a, b| compare(a, b, a != 0.0 && b != 0.0)),
        Operator::Or => each(out, right, |a, b| compare(a, b, a != 0.0 || b != 0.0)),
    }
}

/// |a|^b with the sign of a; 0 to a negative power is 0, as a division by zero is.
fn power(a: f32, b: f32) -> f32 {
    if a.is_nan() || b.is_nan() {
        return f32::NAN;
    }
    if a == 0.0 {
        return truth(b == 0.0);
    }
    let size = a.abs().powf(b);
    if a < 0.0 { -size } else { size }
}

/// A smooth step from 0 at `low` to 1 at `high`; a sharp one where both are the same.
fn ramp(a: f32, low: f32, high: f32) -> f32 {
    if high <= low {
        return keep_missing(low + high, truth(a >= low));
    }
    let t = ((a - low) / (high - low)).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

fn call(f: Function, of: &[Expr<usize>], inputs: &[&[f32]], white: f32, out: &mut [f32]) {
    let missing = |a: f32, b: f32| (a + b).is_nan();
    eval(&of[0], inputs, white, out);
    with_run(out.len(), |second| {
        eval(&of[1], inputs, white, second);
        match f {
            Function::Lighter => each(
                out,
                second,
                |a, b| {
                    if missing(a, b) { f32::NAN } else { a.max(b) }
                },
            ),
            Function::Darker => each(
                out,
                second,
                |a, b| {
                    if missing(a, b) { f32::NAN } else { a.min(b) }
                },
            ),
            Function::Screen => each(out, second, |a, b| {
                white - (white - a) * (white - b) / white
            }),
            Function::Within | Function::When | Function::Ramp | Function::Blend => {
                with_run(out.len(), |third| {
                    eval(&of[2], inputs, white, third);
                    for ((a, b), c) in out.iter_mut().zip(second.iter()).zip(third.iter()) {
                        *a = match (f, a.is_nan()) {
                            (_, true) => *a,
                            (Function::Ramp, _) => ramp(*a, *b, *c),
                            (Function::Blend, _) => *a + (*b - *a) * c.clamp(0.0, 1.0),
                            (Function::When, _) if *a != 0.0 => *b,
                            (Function::When, _) => *c,
                            _ if missing(*b, *c) => f32::NAN,
                            _ => a.min(*c).max(*b),
                        };
                    }
                });
            }
        }
    });
}
