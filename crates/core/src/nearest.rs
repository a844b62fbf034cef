//! Which known name was meant? Near names for error messages.

/// The longest name that is compared, in bytes: it takes as long as the lengths multiplied.
const LONGEST: usize = 800;

/// The known name nearest to what was typed. None when nothing is near enough to be meant: more
/// than a third of the letters differ.
pub fn nearest<'k>(typed: &str, known: impl IntoIterator<Item = &'k str>) -> Option<&'k str> {
    if typed.len() > LONGEST {
        return None;
    }
    let limit = (typed.chars().count() / 3).max(1);
    known
        .into_iter()
        .filter(|name| name.len() <= LONGEST)
        .map(|name| (strsim::osa_distance(typed, name), name))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
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
        assert_eq!(nearest(&"x".repeat(100_000), known), None);
    }
}
