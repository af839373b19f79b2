//! What is said of many frames alike, said once.

/// From so many frames on what they share is said once.
const MANY: usize = 3;

/// So many of them are named.
const NAMED: usize = 2;

/// Notes of frames, in the order in which they first come: those that differ in numbers alone stand together, as the first of
/// them says it.
pub fn gathered<'a>(notes: impl IntoIterator<Item = (String, &'a str)>) -> Vec<(String, String)> {
    let mut all: Vec<(String, &str, Vec<String>)> = Vec::new();
    for (frame, note) in notes {
        let kind: String = note.chars().filter(|c| !c.is_ascii_digit()).collect();
        match all.iter_mut().find(|(k, ..)| *k == kind) {
            Some((.., frames)) => frames.push(frame),
            None => all.push((kind, note, vec![frame])),
        }
    }
    let told = |(_, note, frames): (String, &str, Vec<String>)| match frames.as_slice() {
        few if few.len() < MANY => (few.join(", "), note.to_owned()),
        many => {
            let rest = many.len() - NAMED;
            (
                format!("{} and {rest} more", many[..NAMED].join(", ")),
                note.to_owned(),
            )
        }
    };
    all.into_iter().map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_many_frames_share_is_said_once() {
        let note = |f: &str, n: &'static str| (f.to_owned(), n);
        let told = gathered([
            note("a", "it is from 12 patches"),
            note("b", "it is dark"),
            note("c", "it is from 9 patches"),
            note("d", "it is from 10 patches"),
            note("e", "it is from 11 patches"),
        ]);
        let words: Vec<String> = told
            .into_iter()
            .map(|(who, note)| format!("{who}: {note}"))
            .collect();
        assert_eq!(
            words,
            ["a, c and 2 more: it is from 12 patches", "b: it is dark"]
        );
    }
}
