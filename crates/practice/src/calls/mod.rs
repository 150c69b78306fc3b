//! What the forge takes, in the words of each dialect.

mod beacon;
mod harbour;
mod practice;

use crate::dialect::Dialect;
use crate::forge::Forge;
use axum::Router;

/// The calls of a dialect.
pub(crate) fn router(dialect: Dialect) -> Router<Forge> {
    match dialect {
        Dialect::Practice => practice::router(),
        Dialect::Harbour => harbour::router(),
        Dialect::Beacon => beacon::router(),
    }
}
