//! Which known name was meant? Near names for error messages.

/// The known name nearest to what was typed. None when nothing is near enough to be meant: more
/// than a third of the letters differ.
pub fn nearest<'k>(typed: &str, known: impl IntoIterator<Item = &'k str>) -> Option<&'k str> {
    let limit = (typed.chars().count() / 3).max(1);
    known
        .into_iter()
        .map(|name| (distance(typed, name), name))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
}

/// How many letters must be changed, added, left out or swapped with their neighbour.
fn distance(a: &str, b: &str) -> usize {
    let a: Vec<char> = a.chars().take(200).collect();
    let b: Vec<char> = b.chars().take(200).collect();
    let mut before = vec![0; b.len() + 1];
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, ca) in a.iter().enumerate() {
        let mut next = vec![i + 1; b.len() + 1];
        for (j, cb) in b.iter().enumerate() {
            let change = row[j] + usize::from(ca != cb);
            next[j + 1] = change.min(row[j + 1] + 1).min(next[j] + 1);
            if i > 0 && j > 0 && *ca == b[j - 1] && a[i - 1] == *cb {
                next[j + 1] = next[j + 1].min(before[j - 1] + 1);
            }
        }
        before = std::mem::replace(&mut row, next);
    }
    row[b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_name_is_found_and_a_far_one_is_not() {
        let known = ["upstream", "shelf", "intake", "class"];
        assert_eq!(nearest("upstrem", known), Some("upstream"));
        assert_eq!(nearest("shefl", known), Some("shelf"));
        assert_eq!(nearest("zzzzz", known), None);
        assert_eq!(nearest("", known), None);
    }
}
