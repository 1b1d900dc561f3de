//! Tags of a haul, as they are typed and as they change.

use crate::error::AppError;

/// Tags as they are typed: `bay=2, fan=on`.
///
/// # Errors
/// What is no tag.
pub fn tags_of(text: &str) -> Result<Vec<(String, String)>, AppError> {
    text.split(',')
        .map(str::trim)
        .filter(|t| !t.is_empty())
        .map(|t| {
            t.split_once('=')
                .map(|(k, v)| (k.trim().to_owned(), v.trim().to_owned()))
                .filter(|(k, _)| !k.is_empty())
                .ok_or_else(|| {
                    AppError::usage(format!("\"{t}\" is no tag: write name=value, with commas between"))
                })
        })
        .collect()
}

/// Tags after some were given and some taken away.
#[must_use]
pub fn retagged(
    mut tags: Vec<(String, String)>,
    given: &[(String, String)],
    taken: &[String],
) -> Vec<(String, String)> {
    tags.retain(|(k, _)| !taken.contains(k) && !given.iter().any(|g| g.0 == *k));
    tags.extend(given.iter().cloned());
    tags
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_are_pairs_and_the_last_given_counts() {
        let two = tags_of("bay=2, fan = on").unwrap();
        assert_eq!(two, [("bay".into(), "2".into()), ("fan".into(), "on".into())]);
        assert_eq!(tags_of("").unwrap(), []);
        assert!(tags_of("bay").is_err() && tags_of("=2").is_err());
        let now = retagged(two, &[("bay".into(), "3".into())], &["fan".into()]);
        assert_eq!(now, [("bay".into(), "3".into())]);
    }
}
