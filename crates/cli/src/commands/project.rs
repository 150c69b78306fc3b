//! `project add`, `list`, `show`, `remove`.

use super::secret;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::out::table;
use clap::Subcommand;
use clap::ValueEnum;
use ordotaxis_core::access::Seen;
use ordotaxis_wire::board::BoardView;
use ordotaxis_wire::project::{BadgeView, ProjectView};
use ordotaxis_wire::project::{
    FindRepositories, FoundRepository, NewForge, NewLogin, NewProject, RepositoryView, SetMainBranch, SetOutside, SetPoll, SetSeen,
};
use reqwest::Method;

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum OutsideChoice {
    /// Each waits for someone to allow it
    Ask,
    Run,
    Never,
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum SeenChoice {
    All,
    Granted,
    Public,
}

#[derive(Subcommand)]
pub(crate) enum ProjectCommand {
    /// Add a project
    Add {
        name: String,
        /// Anything that `git clone` takes
        #[arg(long)]
        git: String,
        /// The one that the repository itself names when absent
        #[arg(long)]
        main_branch: Option<String>,
        /// Who the service is there, where not all may read it by HTTP; the password is read from standard input
        #[arg(long)]
        user: Option<String>,
        /// The forge's profile; none: verdicts are written as git notes only
        #[arg(long, requires = "forge_url")]
        forge: Option<String>,
        #[arg(long)]
        forge_url: Option<String>,
        /// The repository's name on the forge; the project's when absent
        #[arg(long)]
        forge_repository: Option<String>,
        /// What the forge wants to see before it takes a status
        #[arg(long, env = "ORDOTAXIS_FORGE_TOKEN", hide_env_values = true)]
        forge_token: Option<String>,
    },
    /// List the repositories that a forge has, with those that are projects already
    Find {
        /// The forge's profile
        #[arg(long)]
        forge: String,
        #[arg(long)]
        forge_url: String,
        /// What the forge wants to see before it lists them; it is not kept
        #[arg(long, env = "ORDOTAXIS_FORGE_TOKEN", hide_env_values = true)]
        forge_token: Option<String>,
    },
    List,
    Show {
        name: String,
    },
    /// Remove a project with all its runs
    Remove {
        name: String,
    },
    /// Set who the service is on the repository's server; the password is read from standard input
    Login {
        name: String,
        #[arg(long)]
        user: String,
        /// Another server that submodules are on: https://HOST
        #[arg(long = "for", value_name = "SERVER")]
        server: Option<String>,
    },
    /// Remove what was set with `login`
    Logout {
        name: String,
        #[arg(long = "for", value_name = "SERVER")]
        server: Option<String>,
    },
    /// The public half of the key that the repository is read with by SSH; makes the key where there is none
    Key {
        name: String,
        /// Make another key: the one that is there is of no use any more
        #[arg(long)]
        anew: bool,
        /// Forget the keys of servers that were pinned when they were first met
        #[arg(long)]
        forget_hosts: bool,
    },
    /// Say which branch is the main one; without a name the one that the repository itself names
    MainBranch {
        name: String,
        branch: Option<String>,
    },
    /// Say who sees a project: `all` who are signed in, whom it was `granted`, or everybody (`public`)
    Seen {
        name: String,
        #[arg(value_enum)]
        by: SeenChoice,
    },
    /// Print the project's badge for a README, in Markdown, reStructuredText, AsciiDoc and HTML
    Badge {
        name: String,
        /// Of one pipeline; of all together when absent
        #[arg(long)]
        pipeline: Option<String>,
        /// The main branch when absent
        #[arg(long)]
        branch: Option<String>,
    },
    /// Say how often the repository is looked at for what no hook tells: `60s`, `never`, or `usual`
    Poll {
        name: String,
        every: String,
    },
    /// Say what is done with proposals from outside
    Outside {
        name: String,
        #[arg(value_enum)]
        what: OutsideChoice,
    },
}

pub(super) async fn project(command: ProjectCommand, api: &Api, json: bool) -> Done {
    match command {
        ProjectCommand::Add { name, git, main_branch, user, forge, forge_url, forge_repository, forge_token } => {
            let login = user.map(|user| Ok::<_, Failure>(NewLogin { origin: None, user, password: secret::value()? })).transpose()?;
            let forge = forge.zip(forge_url).map(|(profile, url)| NewForge {
                profile,
                url,
                repository: forge_repository.unwrap_or_else(|| name.clone()),
                token: forge_token,
            });
            let added: ProjectView =
                api.post("projects", &NewProject { name, git_url: git, main_branch, login, forge, look: None }).await?;
            if json {
                out::json(&added);
            } else {
                out::print(format!("project {} is added", added.name));
                print_facts(&added);
                if let Some(remark) = &added.remark {
                    out::remark(format!("  {remark}"));
                }
                if let Some(secret) = &added.hook_secret {
                    out::print(format!("  signed with {secret}"));
                    out::remark("  the secret is shown this once: give it to the forge with the webhook's address");
                }
            }
        }
        ProjectCommand::Find { forge, forge_url, forge_token } => {
            let ask = FindRepositories { profile: forge, url: forge_url, token: forge_token };
            let found: Vec<FoundRepository> = api.post("repositories", &ask).await?;
            if json {
                out::json(&found);
                return OK;
            }
            print_found(&found, &ask);
        }
        ProjectCommand::List => {
            let projects: Vec<ProjectView> = api.get("projects").await?;
            if json {
                out::json(&projects);
                return OK;
            }
            let board: BoardView = api.get("board").await?;
            let head = ["project", "main branch", "is", "since", "repository"].map(str::to_owned).to_vec();
            let row = |project: &ProjectView| {
                let line = board.projects.iter().find(|line| line.project == project.name);
                let state = line.and_then(|line| line.main).map(out::state).unwrap_or_default();
                let since = line.and_then(|line| line.since).map(out::moment).unwrap_or_default();
                vec![project.name.clone(), project.main_branch.clone(), state, since, project.git_url.clone()]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(projects.iter().map(row)).collect();
            table(&rows, "there are no projects yet; `ordotaxis project add NAME --git URL` adds one");
            for (name, trouble) in projects.iter().filter_map(|project| Some((&project.name, project.trouble.as_ref()?))) {
                out::remark(format!("{name} cannot be read now, and is tried again: {trouble}"));
            }
        }
        ProjectCommand::Show { name } => {
            let project: ProjectView = api.get(&format!("projects/{name}")).await?;
            if json {
                out::json(&project);
                return OK;
            }
            out::print(out::bold(&project.name));
            print_facts(&project);
            // Whoever is not signed in does not see it.
            if let Ok(repository) = api.get::<RepositoryView>(&format!("projects/{name}/repository")).await {
                print_repository(&repository);
            }
        }
        ProjectCommand::Login { name, user, server } => {
            let ask = NewLogin { origin: server, user, password: secret::value()? };
            api.send(api.request(Method::PUT, &format!("projects/{name}/repository/login")).json(&ask)).await?;
            out::print(format!("{name} is read as {} from now on", ask.user));
        }
        ProjectCommand::Logout { name, server } => {
            let known: RepositoryView = api.get(&format!("projects/{name}/repository")).await?;
            let origin = server.or_else(|| known.logins.first().map(|login| login.origin.clone())).unwrap_or_default();
            let path = format!("projects/{name}/repository/login");
            api.send(api.request(Method::DELETE, &path).query(&[("origin", &origin)])).await?;
            out::print(format!("{name} is read from {origin} without a password from now on"));
        }
        ProjectCommand::Key { name, anew, forget_hosts } => {
            let path = format!("projects/{name}/repository");
            if forget_hosts {
                api.send(api.request(Method::DELETE, &format!("{path}/hosts"))).await?;
            }
            if anew {
                api.send(api.request(Method::DELETE, &format!("{path}/key"))).await?;
            }
            let repository: RepositoryView = api.post(&format!("{path}/key"), &serde_json::json!({})).await?;
            if json {
                out::json(&repository);
                return OK;
            }
            out::print(repository.key.as_deref().unwrap_or_default());
            out::remark("give this key to the repository's server, as one that may read");
            repository.hosts.iter().for_each(|host| out::remark(format!("pinned: {} {} {}", host.host, host.kind, host.fingerprint)));
        }
        ProjectCommand::MainBranch { name, branch } => {
            let ask = SetMainBranch { branch };
            let path = format!("projects/{name}/repository/main-branch");
            let repository: RepositoryView = api.put(&path, &ask).await?;
            let how = if repository.main_follows { ", as the repository names it" } else { "" };
            out::print(format!("the main branch of {name} is {}{how}", repository.main_branch));
        }
        ProjectCommand::Badge { name, pipeline, branch } => {
            let of: Vec<(&str, String)> =
                [("pipeline", pipeline), ("branch", branch)].into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
            let badge: BadgeView = api.read(api.request(Method::GET, &format!("projects/{name}/badge")).query(&of)).await?;
            if json {
                out::json(&badge);
                return OK;
            }
            for (kind, text) in [
                ("Markdown", badge.markdown),
                ("reStructuredText", badge.restructured_text),
                ("AsciiDoc", badge.asciidoc),
                ("HTML", badge.html),
            ] {
                out::print(out::dim(kind));
                out::print(text);
            }
        }
        ProjectCommand::Poll { name, every } => {
            let (poll_ms, told) = poll(&every)?;
            api.send(api.request(Method::PUT, &format!("projects/{name}/poll")).json(&SetPoll { poll_ms })).await?;
            out::print(format!("the repository of {name} is looked at {told}"));
        }
        ProjectCommand::Outside { name, what } => {
            let (outside, told) = match what {
                OutsideChoice::Ask => ("ask", "waits for someone to allow it"),
                OutsideChoice::Run => ("run", "runs"),
                OutsideChoice::Never => ("never", "is left"),
            };
            let ask = SetOutside { outside: outside.to_owned() };
            api.send(api.request(Method::PUT, &format!("projects/{name}/outside")).json(&ask)).await?;
            out::print(format!("a proposal of {name} from outside {told}"));
        }
        ProjectCommand::Seen { name, by } => {
            let (seen, told) = match by {
                SeenChoice::All => (Seen::All, "everybody who is signed in"),
                SeenChoice::Granted => (Seen::Granted, "whoever was granted a role on it"),
                SeenChoice::Public => (Seen::Public, "everybody, also without signing in"),
            };
            api.send(api.request(Method::PUT, &format!("projects/{name}/seen")).json(&SetSeen { seen })).await?;
            out::print(format!("{name} is seen by {told}"));
        }
        ProjectCommand::Remove { name } => {
            api.send(api.request(Method::DELETE, &format!("projects/{name}"))).await?;
            out::remark(format!("project {name} and its runs are removed"));
        }
    }
    OK
}

/// How often, and in words.
fn poll(every: &str) -> Result<(Option<i64>, String), Failure> {
    match every {
        "never" => Ok((Some(0), "never: only hooks tell of pushes".into())),
        "usual" => Ok((None, "each minute, or each ten where hooks come".into())),
        other => {
            let wrong = |_| Failure::new(2, format!("`{other}` is not a length of time"), "write one such as 60s, or `never`, or `usual`");
            let length = humantime::parse_duration(other).map_err(wrong)?;
            Ok((Some(i64::try_from(length.as_millis()).unwrap_or(i64::MAX)), format!("every {}", humantime::format_duration(length))))
        }
    }
}

fn print_repository(repository: &RepositoryView) {
    for login in &repository.logins {
        out::print(format!("  read as     {} at {}", login.user, login.origin));
    }
    if let Some(key) = &repository.key {
        out::print(format!("  with key    {key}"));
    }
    for host in &repository.hosts {
        out::print(format!("  pinned      {} {} {}", host.host, host.kind, host.fingerprint));
    }
}

fn print_facts(project: &ProjectView) {
    out::print(format!("  repository  {}", project.git_url));
    out::print(format!("  main branch {}", project.main_branch));
    out::print(format!("  webhook to  {}, read by the profile {}", project.hook_url, project.profile));
    let every = match project.poll_ms {
        Some(0) => "never".to_owned(),
        Some(ms) => format!("every {}", humantime::format_duration(std::time::Duration::from_millis(ms.unsigned_abs()))),
        None => "as its hooks need".to_owned(),
    };
    let last = project.looked_at.map(|at| format!(", last {}", out::moment(at))).unwrap_or_default();
    out::print(format!("  looked at   {every}{last}"));
    if let Some(found) = &project.found {
        out::print(format!("  found       {found}"));
    }
    out::print(format!("  seen by     {}", project.seen.word()));
    if let Some(trouble) = &project.trouble {
        out::print(format!("  trouble     it cannot be read now, and is tried again: {trouble}"));
    }
}

fn print_found(found: &[FoundRepository], at: &FindRepositories) {
    let head = ["repository", "project", "git"].map(str::to_owned).to_vec();
    let row = |one: &FoundRepository| vec![one.repository.clone(), one.project.clone().unwrap_or_default(), one.git_url.clone()];
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(found.iter().map(row)).collect();
    table(&rows, "the forge lists no repository that this token opens");
    // A line that people copy into a shell holds nothing that a shell reads otherwise.
    let plain = |text: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || "-_./:@+%~".contains(c));
    if let Some(new) = found.iter().find(|one| one.project.is_none() && plain(&one.git_url) && plain(&one.repository)) {
        let FindRepositories { profile, url, .. } = at;
        out::remark(format!(
            "  ordotaxis project add NAME --git {} --forge {profile} --forge-url {url} --forge-repository {}",
            new.git_url, new.repository
        ));
    }
}
