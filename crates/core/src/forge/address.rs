//! Addresses that requests go to: URI Templates (RFC 6570).

/// The names in a URI Template's expressions, without their operators and modifiers.
pub(super) fn names_of_address(template: &str) -> Vec<&str> {
    let expressions = template.split('{').skip(1).filter_map(|rest| rest.split_once('}').map(|(inside, _)| inside));
    let names = expressions.flat_map(|inside| inside.trim_start_matches(['+', '#', '.', '/', ';', '?', '&']).split(','));
    names.map(|name| name.split_once(':').map_or(name, |(name, _)| name).trim_end_matches('*')).collect()
}
