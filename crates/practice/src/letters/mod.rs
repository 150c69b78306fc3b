//! What the forge tells, in the words of each dialect.

pub(crate) mod beacon;
pub(crate) mod harbour;
mod letter;
pub(crate) mod practice;

pub(crate) use letter::{Letter, Signed};

use crate::dialect::Dialect;
use crate::news::News;

/// The deliveries that tell some news.
pub(crate) fn letters(dialect: Dialect, url: &str, repository: &str, news: &News) -> Vec<Letter> {
    match dialect {
        Dialect::Practice => practice::letters(url, repository, news),
        Dialect::Harbour => vec![harbour::letter(url, repository, news)],
        Dialect::Beacon => beacon::letters(url, repository, news),
    }
}

/// The delivery with what shows that it is this forge's. `id` names it, also when it is sent again.
pub(crate) fn signed(dialect: Dialect, letter: &Letter, secret: &str, id: &str) -> Signed {
    match dialect {
        Dialect::Practice => practice::signed(letter, secret, id),
        Dialect::Harbour => harbour::signed(letter, secret, id),
        Dialect::Beacon => beacon::signed(letter, secret, id),
    }
}
