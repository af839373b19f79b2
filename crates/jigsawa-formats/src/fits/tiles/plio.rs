//! Line lists of masks: runs of zeros and of one value (FITS 4.0 §10.4.3), for whole numbers from 0 up.

use jigsawa_core::number::Convert;

/// Unpacks `count` values from 16-bit words. `None` for a list that is none.
pub(super) fn unpack(words: &[i16], count: usize) -> Option<Vec<i32>> {
    // An old list has its length in the third word, a new one in the fourth and fifth and its own start in the second.
    let word = |i: usize| words.get(i).map(|w| i32::from(*w));
    let (length, first) = match word(2)? {
        old if old > 0 => (old, 3),
        _ => ((word(4)? << 15) + word(3)?, usize::try_from(word(1)?).ok()?),
    };
    let length = usize::try_from(length).ok()?.min(words.len());
    let mut values = Vec::with_capacity(count);
    let mut value = 1i32;
    let mut at = first;
    while at < length && values.len() < count {
        let (code, data) = (words[at] / 4096, i32::from(words[at] & 4095));
        at += 1;
        match code {
            // A run: zeros, the value, or zeros with the value at the end.
            0 | 4 | 5 => {
                let whole = data.index();
                let run = whole.min(count - values.len());
                let fill = if code == 4 { value } else { 0 };
                values.resize(values.len() + run, fill);
                if code == 5 && run == whole && run > 0 {
                    *values.last_mut()? = value;
                }
            }
            1 => {
                value = (word(at)? << 12) + data;
                at += 1;
            }
            2 => value = value.wrapping_add(data),
            3 => value = value.wrapping_sub(data),
            6 | 7 => {
                let step = if code == 6 { data } else { -data };
                value = value.wrapping_add(step);
                values.push(value);
            }
            _ => {}
        }
    }
    values.resize(count, 0);
    Some(values)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_and_steps_worked_out_by_hand() {
        // Three zeros; the value up to 5 and one of it; two of it; two zeros and one of it.
        let list = [
            0,
            7,
            -100,
            12,
            0,
            0,
            0,
            3,
            6 * 4096 + 4,
            4 * 4096 + 2,
            5 * 4096 + 3,
            0,
        ];
        assert_eq!(unpack(&list, 10), Some(vec![0, 0, 0, 5, 5, 5, 0, 0, 5, 0]));
        assert_eq!(unpack(&list[..2], 10), None);
        assert_eq!(unpack(&[0, 7, -100, 0, 0, 0, 0], 4), Some(vec![0; 4]));
    }
}
