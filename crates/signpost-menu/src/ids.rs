//! Ids made from titles and names, which no other entry has.

use alloc::format;
use alloc::string::{String, ToString};

use crate::document::RESERVED_IDS;

/// Letters of an id that is made from a title.
const MAX_SLUG: usize = 30;

/// A short name, fit for an id: lower-case letters, digits, dashes; `otherwise` where a title has none of these.
pub fn slug(title: &str, otherwise: &str) -> String {
    let mut slug = String::new();
    for c in title.to_lowercase().chars() {
        match c {
            'a'..='z' | '0'..='9' => slug.push(c),
            _ if !slug.is_empty() && !slug.ends_with('-') => slug.push('-'),
            _ => {}
        }
    }
    slug.truncate(MAX_SLUG);
    let slug = slug.trim_end_matches('-');
    if slug.is_empty() { otherwise.to_string() } else { slug.to_string() }
}

/// The first id that is free and means nothing else: this one, or `short` with a number behind it.
pub fn first_free(id: &str, short: &str, is_taken: impl Fn(&str) -> bool) -> String {
    let is_free = |id: &String| !id.is_empty() && !is_taken(id) && !RESERVED_IDS.contains(&id.as_str());
    let numbered = (2u32..).map(|number| format!("{short}-{number}"));
    core::iter::once(id.to_string()).chain(numbered).find(is_free).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_or_means_something_else_gets_a_number() {
        assert_eq!(slug("☂", "composed"), "composed");
        assert_eq!(first_free("a", "a", |id| matches!(id, "a" | "a-2")), "a-3");
        assert_eq!(first_free("first", "first", |_| false), "first-2");
    }
}
