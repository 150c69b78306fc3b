//! What rules say, in sentences.

use super::{Approvals, Asks, BranchRules, EnvironmentRules, How, NoticeRule, OnFailure, Rules, ToldJobs};
use crate::engine::Millis;
use crate::language::counted;

impl Rules {
    /// A sentence for each thing that they say, without a full stop.
    pub fn sentences(&self) -> Vec<String> {
        let mut lines: Vec<String> = self.branches.iter().flat_map(|(name, rules)| rules.sentences(name)).collect();
        lines.extend(self.environments.iter().flat_map(|(name, rules)| rules.sentences(name)));
        lines.extend(self.notices.iter().flat_map(|(name, notice)| notice.sentences(name)));
        match &self.told.jobs {
            ToldJobs::All => lines.push("every job has a status of its own at the forge".to_owned()),
            ToldJobs::Named(names) if !names.is_empty() => {
                lines.push(format!("these jobs have statuses of their own at the forge: {}", names.join(", ")));
            }
            ToldJobs::Named(_) => {}
        }
        if !self.told.comments {
            lines.push("proposals get no comment".to_owned());
        }
        lines
    }
}

impl BranchRules {
    fn sentences(&self, name: &str) -> Vec<String> {
        if !self.queue {
            return vec![format!("{name} is free: whoever may push to it pushes")];
        }
        let how = match self.how {
            How::Merge => "as merges",
            How::Squash => "as one commit each",
            How::Rebase => "commit by commit",
        };
        let mut lines = vec![format!("proposals for {name} land one after another, {how}, once {} passed", self.wants.join(" and "))];
        let trials = counted(self.manner.ahead, "trial");
        lines.push(match self.manner.together {
            1 => format!("{name}: up to {trials} at once, each with one proposal on top of those ahead"),
            more => format!("{name}: up to {trials} at once, each with up to {more} proposals"),
        });
        lines.extend(self.approvals.iter().map(|wanted| format!("{name}: {}", wanted.sentence("the newest commit"))));
        lines.extend(self.closed.iter().map(|hours| format!("{name}: nothing lands {}", hours.text())));
        lines
    }
}

impl EnvironmentRules {
    fn sentences(&self, name: &str) -> Vec<String> {
        let mut lines = Vec::new();
        if !self.after.is_empty() {
            let still = if self.still > 0 { format!(" for {}", length(self.still)) } else { String::new() };
            lines.push(format!("the same artifacts must have been well in {}{still}", self.after.join(" and ")));
        }
        lines.extend(self.from.iter().map(|list| format!("only runs of {} go in", list.join(", "))));
        for agreement in &self.approvals {
            let within = agreement.within.map(|within| format!(", each counts for {}", length(within))).unwrap_or_default();
            lines.push(format!("{}{within}", agreement.wanted.sentence("what goes in")));
        }
        for list in &self.hours {
            lines.push(format!("open {}", list.iter().map(|hours| hours.text()).collect::<Vec<_>>().join(" and ")));
        }
        if let Some(check) = &self.check {
            let lasts = if check.lasts > 0 { format!(", and then for {}", length(check.lasts)) } else { String::new() };
            let asks = match &check.asks {
                Asks::Url { url, says: Some(says) } => format!("{url} says {says}"),
                Asks::Url { url, says: None } => format!("{url} answers"),
                Asks::Run(run) => format!("`{run}` ends well"),
            };
            lines.push(format!("it is well when {asks} within {}{lasts}", length(check.within)));
        }
        if self.on_failure == OnFailure::RollBack {
            lines.push("what fails there is rolled back within its run".to_owned());
        }
        if self.promote {
            lines.push("what may go in goes in by itself".to_owned());
        }
        if self.preview {
            let lasts = self.lasts.map(|lasts| format!(", at the latest after {}", length(lasts))).unwrap_or_default();
            lines.push(format!("a preview: closed with its proposal{lasts}"));
        }
        if self.outside {
            lines.push("proposals from outside may go in, without secrets".to_owned());
        }
        if !self.secrets.is_empty() {
            lines.push(format!("{} for jobs that deploy there only", self.secrets.join(", ")));
        }
        if !self.emergency.is_empty() {
            lines.push(format!("in an emergency {} may go past these rules", self.emergency.join(" or ")));
        }
        lines.into_iter().map(|line| format!("{name}: {line}")).collect()
    }
}

fn length(ms: Millis) -> String {
    humantime::format_duration(std::time::Duration::from_millis(ms.unsigned_abs())).to_string()
}

impl Approvals {
    fn sentence(&self, of_what: &str) -> String {
        let by = if self.by.is_empty() { "whoever may operate the project".to_owned() } else { self.by.join(" or ") };
        let author = if self.author { ", the author counts" } else { "" };
        format!("{} of {of_what} by {by}{author}", counted(self.of, "approval"))
    }
}

impl NoticeRule {
    fn sentences(&self, name: &str) -> Vec<String> {
        let on: Vec<&str> = self.on.iter().map(|occasion| occasion.word()).collect();
        let to = self.mail.iter().chain(self.hook.iter().map(|(url, _)| url));
        to.map(|to| format!("{name}: {to} is told of {}", on.join(", "))).collect()
    }
}
