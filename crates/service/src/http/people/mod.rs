//! What people ask, one file a resource: handlers read the call, ask, and answer. Who may do what is decided before them,
//! in `gate`.
//!
//! To add a route: a handler with its description, a line below, and its action in `gate::ROUTES`.

mod artifacts;
mod board;
mod caches;
mod compare;
mod connections;
mod deliveries;
mod environments;
mod failure;
mod found;
mod grants;
mod groups;
mod hook;
mod insight;
mod jobs_insight;
mod journal;
mod landing;
mod live;
mod logins;
mod logs;
mod looks;
mod needs;
mod notes;
mod notices;
mod numbers;
mod offers;
mod persons;
mod pipelines;
mod pools;
mod projects;
mod proposals;
mod releases;
mod repository;
mod rules;
mod runners;
mod runs;
mod secrets;
mod session;
mod show;
mod shown;
mod sought;
mod starting;
mod store;
mod streams;
mod tests;
mod tokens;
mod trace;
mod views;
mod work;

pub(crate) use persons::is_person_name;
pub(super) use show::page;
pub(crate) use shown::Shown;
pub(crate) use streams::Streams;

use crate::app::App;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// All addresses for people, with their descriptions.
pub(super) fn routes(router: OpenApiRouter<App>) -> OpenApiRouter<App> {
    router
        .routes(routes!(session::ways))
        .routes(routes!(session::begin))
        .routes(routes!(session::sign_in, session::sign_out))
        .routes(routes!(session::me))
        .routes(routes!(session::link))
        .routes(routes!(board::board))
        .routes(routes!(projects::list, projects::add))
        .routes(routes!(found::find))
        .routes(routes!(looks::look))
        .routes(routes!(looks::heard))
        .routes(routes!(looks::end))
        .routes(routes!(looks::first_file))
        .routes(routes!(projects::show, projects::remove))
        .routes(routes!(projects::set_outside))
        .routes(routes!(repository::show))
        .routes(routes!(repository::set_login, repository::remove_login))
        .routes(routes!(repository::make_key, repository::remove_key))
        .routes(routes!(repository::forget_hosts))
        .routes(routes!(repository::set_main_branch))
        .routes(routes!(work::list))
        .routes(routes!(work::again))
        .routes(routes!(runs::allow))
        .routes(routes!(starting::start))
        .routes(routes!(starting::planned))
        .routes(routes!(starting::refs))
        .routes(routes!(runs::list))
        .routes(routes!(runs::show))
        .routes(routes!(runs::newest))
        .routes(routes!(runs::plan))
        .routes(routes!(runs::why))
        .routes(routes!(failure::failure))
        .routes(routes!(pipelines::of_run))
        .routes(routes!(sought::search))
        .routes(routes!(runs::stop))
        .routes(routes!(runs::again))
        .routes(routes!(runs::start_job))
        .routes(routes!(connections::list))
        .routes(routes!(connections::set, connections::remove))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::set, secrets::remove))
        .routes(routes!(pipelines::schema))
        .routes(routes!(pipelines::check))
        .routes(routes!(pipelines::edited))
        .routes(routes!(pipelines::list))
        .routes(routes!(pipelines::draft))
        .routes(routes!(pipelines::versions, pipelines::store))
        .routes(routes!(logs::read))
        .routes(routes!(logs::lines))
        .routes(routes!(logs::search))
        .routes(routes!(artifacts::list))
        .routes(routes!(artifacts::fetch))
        .routes(routes!(artifacts::folder))
        .routes(routes!(artifacts::file))
        .routes(routes!(artifacts::pin, artifacts::unpin))
        .routes(routes!(show::show))
        .routes(routes!(tests::of_run))
        .routes(routes!(numbers::run_findings))
        .routes(routes!(tests::flaky))
        .routes(routes!(tests::history))
        .routes(routes!(numbers::numbers))
        .routes(routes!(compare::compare))
        .routes(routes!(caches::list, caches::drop_some))
        .routes(routes!(caches::files))
        .routes(routes!(store::verify))
        .routes(routes!(store::sweep))
        .routes(routes!(runners::list))
        .routes(routes!(runners::slots))
        .routes(routes!(runners::drain))
        .routes(routes!(runners::queue))
        .routes(routes!(runners::set, runners::remove))
        .routes(routes!(runners::invite))
        .routes(routes!(pools::list))
        .routes(routes!(pools::set, pools::remove))
        .routes(routes!(pools::machines))
        .routes(routes!(pools::machine, pools::remove_machine))
        .routes(routes!(pools::console))
        .routes(routes!(pools::keep))
        .routes(routes!(live::live))
        .routes(routes!(session::list))
        .routes(routes!(session::end))
        .routes(routes!(session::link_for))
        .routes(routes!(persons::list, persons::add))
        .routes(routes!(persons::set, persons::remove))
        .routes(routes!(persons::add_identity, persons::remove_identity))
        .routes(routes!(groups::list))
        .routes(routes!(groups::set, groups::remove))
        .routes(routes!(grants::list, grants::set, grants::remove))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::end))
        .routes(routes!(journal::list))
        .routes(routes!(journal::export))
        .routes(routes!(journal::verify))
        .routes(routes!(journal::of_project))
        .routes(routes!(projects::set_seen))
        .routes(routes!(notes::add))
        .routes(routes!(projects::set_poll))
        .routes(routes!(projects::badge))
        .routes(routes!(deliveries::list))
        .routes(routes!(deliveries::show))
        .routes(routes!(deliveries::again))
        .routes(routes!(deliveries::secret))
        .routes(routes!(deliveries::profiles))
        .routes(routes!(notices::list, notices::choose, notices::drop_choice))
        .routes(routes!(notices::sample))
        .routes(routes!(notices::of_project))
        .routes(routes!(rules::show, rules::set))
        .routes(routes!(proposals::list, offers::make))
        .routes(routes!(proposals::show, offers::withdraw))
        .routes(routes!(offers::review))
        .routes(routes!(landing::show))
        .routes(routes!(landing::land))
        .routes(routes!(environments::list))
        .routes(routes!(insight::insight))
        .routes(routes!(insight::commits))
        .routes(routes!(jobs_insight::of_service))
        .routes(routes!(jobs_insight::of_project))
        .routes(routes!(jobs_insight::export))
        .routes(routes!(environments::show))
        .routes(routes!(environments::freeze, environments::thaw))
        .routes(routes!(environments::promotion))
        .routes(routes!(environments::back))
        .routes(routes!(environments::close))
        .routes(routes!(environments::speak))
        .routes(routes!(environments::emergency))
        .routes(routes!(needs::list))
        .routes(routes!(releases::list))
        .routes(routes!(releases::show, releases::change))
        .routes(routes!(releases::evidence))
        .routes(routes!(releases::make_known))
        .routes(routes!(releases::take_back))
        .routes(routes!(trace::trace))
        .routes(routes!(trace::provenance))
        .routes(routes!(trace::components))
        .routes(routes!(trace::bills))
        .routes(routes!(trace::bill))
}
