//! `notice`: what you are told, and what was told.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_wire::notice::{ChoiceView, NoticeView, NoticesView, SampleView, SetChoice};
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum NoticeCommand {
    /// What you are told of, and what you were told last
    Show,
    /// Choose what you are told, of one project or of all others
    Set {
        /// Occasions with commas between: broke, fixed, waits, landed, left, runner, hook
        #[arg(long, value_delimiter = ',')]
        on: Option<Vec<String>>,
        /// Of this project; of all that have no line of their own when absent
        #[arg(long)]
        project: Option<String>,
        /// `own`: what concerns your commits, proposals and approvals; or `all`
        #[arg(long)]
        whose: Option<String>,
        /// `mail`, or `nothing`
        #[arg(long)]
        by: Option<String>,
    },
    /// Take a choice back: what holds for all others, or the usual, holds again
    Drop {
        #[arg(long)]
        project: Option<String>,
    },
    /// Send yourself a sample, now
    Sample,
    /// What was told to the addresses that a project's rules name
    Project { project: String },
}

pub(super) async fn notice(command: NoticeCommand, api: &Api, json: bool) -> Done {
    match command {
        NoticeCommand::Show => shown(&api.get::<NoticesView>("notices").await?, json),
        NoticeCommand::Set { on, project, whose, by } => {
            let ask = SetChoice { project, on, whose, by };
            let view: NoticesView = api.put("notices", &ask).await?;
            shown(&view, json);
        }
        NoticeCommand::Drop { project } => {
            let query: Vec<(&str, String)> = project.map(|name| ("project", name)).into_iter().collect();
            shown(&api.read(api.request(Method::DELETE, "notices").query(&query)).await?, json);
        }
        NoticeCommand::Sample => {
            let sent: SampleView = api.post("notices/sample", &serde_json::json!({})).await?;
            if json {
                out::json(&sent);
            } else {
                out::print(format!("a sample is on its way to {}", sent.to));
            }
        }
        NoticeCommand::Project { project } => {
            let last: Vec<NoticeView> = api.get(&format!("projects/{project}/notices")).await?;
            if json {
                out::json(&last);
            } else {
                rows(&last, "nothing was told to an address of this project; [notice.NAME] in its rules names one");
            }
        }
    }
    OK
}

fn shown(view: &NoticesView, json: bool) {
    if json {
        return out::json(view);
    }
    let to = match (&view.mail, view.sends_mail) {
        (_, false) => "this service sends no mail: its configuration has no [mail]".to_owned(),
        (None, true) => "nowhere: you have no mail address here; an owner sets it".to_owned(),
        (Some(mail), true) => mail.clone(),
    };
    out::print(format!("mail to  {to}"));
    let all = view.choices.iter().any(|choice| choice.project.is_none());
    let usual = (!all).then_some(&view.usual);
    let row = |choice: &ChoiceView| {
        let project = choice.project.clone().unwrap_or_else(|| if view.choices.is_empty() { "all".into() } else { "all others".into() });
        vec![project, choice.on.join(", "), choice.whose.clone(), choice.by.clone()]
    };
    let head = ["project", "told of", "whose", "by"].map(str::to_owned).to_vec();
    let lines: Vec<Vec<String>> = std::iter::once(head).chain(view.choices.iter().chain(usual).map(row)).collect();
    table(&lines, "");
    if !view.last.is_empty() {
        out::print("");
        rows(&view.last, "");
    }
}

fn rows(last: &[NoticeView], empty: &str) {
    let head = ["when", "state", "to", "what"].map(str::to_owned).to_vec();
    let row = |one: &NoticeView| {
        let why = one.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
        vec![out::moment(one.at), format!("{}{why}", one.state), one.to.clone(), format!("{}: {}", one.project, one.sentence)]
    };
    let lines: Vec<Vec<String>> = std::iter::once(head).chain(last.iter().map(row)).collect();
    table(&lines, empty);
}
