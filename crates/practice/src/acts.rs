//! What can be done to a repository of the forge, whatever dialect it is asked in.

use crate::answer::Answer;
use crate::book::{Comment, Offered, Proposal, Release, Repository, Review};
use crate::forge::Forge;
use crate::news::{News, Turn};
use crate::status::Status;
use axum::http::StatusCode;

fn unknown(what: &str, name: impl std::fmt::Display) -> (StatusCode, String) {
    (StatusCode::NOT_FOUND, format!("there is no {what} {name}\n"))
}

impl Forge {
    fn with<T>(&self, name: &str, act: impl FnOnce(&mut Repository) -> Answer<T>) -> Answer<T> {
        let mut book = self.book();
        let done = act(book.repositories.get_mut(name).ok_or_else(|| unknown("repository", name))?)?;
        self.save(&book);
        Ok(done)
    }

    fn with_proposal<T>(&self, name: &str, number: usize, act: impl FnOnce(&mut Proposal) -> T) -> Answer<T> {
        self.with(name, |known| {
            let proposal = known.proposals.iter_mut().find(|proposal| proposal.number == number);
            Ok(act(proposal.ok_or_else(|| unknown("proposal", number))?))
        })
    }

    /// Whether a call brought the repository's token.
    pub(crate) fn opens(&self, name: &str, sent: Option<&str>) -> Answer<()> {
        let book = self.book();
        let known = book.repositories.get(name).ok_or_else(|| unknown("repository", name))?;
        let opens = sent == Some(known.token.as_str());
        if opens { Ok(()) } else { Err((StatusCode::UNAUTHORIZED, "this is not the repository's token\n".into())) }
    }

    /// The repositories that a token opens, with the address that git reads each at.
    pub(crate) fn opened(&self, sent: Option<&str>) -> Vec<(String, String)> {
        let book = self.book();
        let opened = book.repositories.iter().filter(|(_, known)| sent == Some(known.token.as_str()));
        opened.map(|(name, _)| (name.clone(), self.git_url(name))).collect()
    }

    /// Where git reads a repository.
    pub(crate) fn git_url(&self, name: &str) -> String {
        format!("{}/git/{name}.git", self.url)
    }

    pub(crate) fn set_status(&self, name: &str, commit: String, status: Status) -> Answer<()> {
        self.with(name, |known| {
            known.statuses.entry(commit).or_default().push(status);
            Ok(())
        })
    }

    pub(crate) fn set_release(&self, name: &str, version: String, release: Release) -> Answer<()> {
        self.with(name, |known| {
            known.releases.insert(version, release);
            Ok(())
        })
    }

    /// A proposal as it is now.
    pub fn proposal(&self, name: &str, number: usize) -> Result<Proposal, (StatusCode, String)> {
        self.with_proposal(name, number, |proposal| proposal.clone())
    }

    /// A page of the proposals, counted from 0, and whether there are more.
    pub(crate) fn page(&self, name: &str, page: usize, size: usize) -> Answer<(Vec<Proposal>, bool)> {
        self.with(name, |known| {
            let start = page.saturating_mul(size).min(known.proposals.len());
            let end = (start + size).min(known.proposals.len());
            Ok((known.proposals[start..end].to_vec(), end < known.proposals.len()))
        })
    }

    pub(crate) fn offer(&self, name: &str, mut proposal: Proposal) -> Answer<Proposal> {
        let proposal = self.with(name, |known| {
            proposal.number = known.proposals.len() + 1;
            known.proposals.push(proposal.clone());
            Ok(proposal)
        })?;
        self.announce(name, &News::Proposal { turn: Turn::Offered, by: proposal.by.clone(), proposal: proposal.clone() });
        Ok(proposal)
    }

    /// The source branch of proposals names another commit.
    pub(crate) fn changed(&self, name: &str, branch: &str, commit: &str, by: &str) {
        let changed = self.with(name, |known| {
            let open = known.proposals.iter_mut().filter(|one| one.source == branch && one.state == Offered::Open && one.commit != commit);
            Ok(open
                .map(|proposal| {
                    proposal.commit = commit.to_owned();
                    proposal.clone()
                })
                .collect::<Vec<_>>())
        });
        for proposal in changed.unwrap_or_default() {
            self.announce(name, &News::Proposal { proposal, turn: Turn::Changed, by: by.to_owned() });
        }
    }

    pub(crate) fn close(&self, name: &str, number: usize, by: &str) -> Answer<()> {
        let proposal = self.with_proposal(name, number, |proposal| {
            proposal.state = Offered::Closed;
            proposal.clone()
        })?;
        self.announce(name, &News::Proposal { proposal, turn: Turn::Closed, by: by.to_owned() });
        Ok(())
    }

    /// It has landed as a commit. One that has landed before stays as it is.
    pub(crate) fn land(&self, name: &str, number: usize, commit: &str, by: &str) -> Answer<()> {
        let landed = self.with_proposal(name, number, |proposal| {
            let now = proposal.state != Offered::Landed;
            if now {
                (proposal.state, proposal.landed_as) = (Offered::Landed, Some(commit.to_owned()));
            }
            now.then(|| proposal.clone())
        })?;
        if let Some(proposal) = landed {
            self.announce(name, &News::Proposal { proposal, turn: Turn::Landed, by: by.to_owned() });
        }
        Ok(())
    }

    pub(crate) fn review(&self, name: &str, number: usize, by: &str, approves: bool) -> Answer<()> {
        let (proposal, review) = self.with_proposal(name, number, |proposal| {
            let review = Review { by: by.to_owned(), approves, commit: proposal.commit.clone() };
            proposal.reviews.retain(|known| known.by != by);
            proposal.reviews.push(review.clone());
            (proposal.clone(), review)
        })?;
        self.announce(name, &News::Review { proposal, review });
        Ok(())
    }

    /// Writes a comment, and gives its number.
    pub(crate) fn comment(&self, name: &str, number: usize, by: &str, text: String) -> Answer<usize> {
        let id = self.with(name, |known| {
            known.comments += 1;
            Ok(known.comments)
        })?;
        let proposal = self.with_proposal(name, number, |proposal| {
            proposal.comments.push(Comment { id, by: by.to_owned(), text: text.clone() });
            proposal.clone()
        })?;
        self.announce(name, &News::Comment { proposal, text, by: by.to_owned() });
        Ok(id)
    }

    pub(crate) fn comment_again(&self, name: &str, id: usize, text: String) -> Answer<()> {
        self.with(name, |known| {
            let mut comments = known.proposals.iter_mut().flat_map(|proposal| &mut proposal.comments);
            comments.find(|comment| comment.id == id).ok_or_else(|| unknown("comment", id))?.text = text;
            Ok(())
        })
    }

    /// Someone deletes a comment by hand.
    pub(crate) fn comment_gone(&self, name: &str, number: usize, id: usize) -> Answer<()> {
        self.with_proposal(name, number, |proposal| proposal.comments.retain(|comment| comment.id != id))
    }
}
