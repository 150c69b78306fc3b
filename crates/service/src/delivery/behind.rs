//! How far what is in an environment is behind the main branch. What lies between two commits never changes, so it is counted
//! once.

use crate::app::App;
use crate::clock;
use ordotaxis_store::Project;
use ordotaxis_wire::environment::Behind;

/// No more are counted.
const MOST: usize = 1_000;

/// None: it cannot be said now.
pub(crate) async fn behind(app: &App, project: &Project, commit: &str, head: &str) -> Option<Behind> {
    let key = (project.id, commit.to_owned(), head.to_owned());
    let known = app.distances.get(&key);
    let (count, oldest) = match known {
        Some(known) => known,
        None => {
            let times = app.mirror(project).missing(commit, head, MOST + 1).await.ok()?;
            let found = (times.len(), times.iter().min().map(|seconds| seconds * 1000));
            app.distances.keep(key, found);
            found
        }
    };
    let ms = oldest.map_or(0, |oldest| (clock::now() - oldest).max(0));
    Some(Behind { commits: i64::try_from(count.min(MOST)).unwrap_or(i64::MAX), more: count > MOST, ms })
}
