//! What environments may be called: a name fits into an address, a file's name and a rule, whatever branch it was made of.

/// The longest name, in characters.
const LONGEST: usize = 100;

/// The name that a filled-in `deploys` makes: all but letters, digits, `.`, `_` and `-` becomes `-`. An error says, in words,
/// why it makes none.
///
/// ```
/// use ordotaxis_core::delivery::environment_name;
/// assert_eq!(environment_name("preview-feature/tides").as_deref(), Ok("preview-feature-tides"));
/// assert!(environment_name("//").is_err());
/// ```
pub fn environment_name(text: &str) -> Result<String, String> {
    let fits = |c: char| c.is_alphanumeric() || matches!(c, '.' | '_' | '-');
    if !text.chars().any(char::is_alphanumeric) {
        return Err(format!("an environment cannot be called `{text}`: that has no letter or digit"));
    }
    if text.chars().count() > LONGEST {
        return Err(format!("the name of an environment has at most {LONGEST} characters"));
    }
    Ok(text.chars().map(|c| if fits(c) { c } else { '-' }).collect())
}
