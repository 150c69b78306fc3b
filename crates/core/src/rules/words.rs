//! What rules say, in sentences.

use super::{Approvals, BranchRules, How, NoticeRule, Rules, ToldJobs};
use crate::language::counted;

impl Rules {
    /// A sentence for each thing that they say, without a full stop.
    pub fn sentences(&self) -> Vec<String> {
        let mut lines: Vec<String> = self.branches.iter().flat_map(|(name, rules)| rules.sentences(name)).collect();
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
        lines.extend(self.approvals.iter().map(|wanted| format!("{name}: {}", wanted.sentence())));
        lines.extend(self.closed.iter().map(|hours| format!("{name}: nothing lands {}", hours.text())));
        lines
    }
}

impl Approvals {
    fn sentence(&self) -> String {
        let by = if self.by.is_empty() { "whoever may operate the project".to_owned() } else { self.by.join(" or ") };
        let author = if self.author { ", the author counts" } else { "" };
        format!("{} of the newest commit by {by}{author}", counted(self.of, "approval"))
    }
}

impl NoticeRule {
    fn sentences(&self, name: &str) -> Vec<String> {
        let on: Vec<&str> = self.on.iter().map(|occasion| occasion.word()).collect();
        let to = self.mail.iter().chain(self.hook.iter().map(|(url, _)| url));
        to.map(|to| format!("{name}: {to} is told of {}", on.join(", "))).collect()
    }
}
