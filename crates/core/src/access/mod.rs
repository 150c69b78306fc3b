//! Who may do what. Everything that changes something is done by an [`Actor`]; [`allowed`] says whether it may, and a
//! [`Refusal`] says what is missing.
//!
//! To add something that can be done: a variant of [`Action`], its word and what it needs.

mod action;
mod actor;
mod rights;

pub use action::{Action, Needs};
pub use actor::{Actor, Way, Who};
pub use rights::{Grants, Limit, Rights, Role, Seen};

/// What something is done to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Object<'a> {
    /// The service as a whole, or what belongs to no project.
    Service,
    Project {
        name: &'a str,
        seen: Seen,
    },
}

/// Why something may not be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// Nobody is signed in, and this is not for everybody.
    NotSignedIn,
    /// The caller must not even learn that it is there.
    Hidden,
    /// The caller sees it, and lacks this role on it; `on` is a project's name, or none for the service.
    Lacks { role: Role, on: Option<String> },
    /// A job's token, used for something that its `allows` does not name.
    NotForJobs,
    /// A token with fewer rights than its person has, used to get more.
    Limited,
}

impl Refusal {
    /// What is missing, and who could give it (names of persons, may be empty).
    pub fn sentence(&self, givers: &[String]) -> String {
        match self {
            Refusal::NotSignedIn => "sign in first: send a bearer token, or run `ordotaxis sign-in`".into(),
            Refusal::Hidden => "there is no such thing".into(),
            Refusal::NotForJobs => "the job's `allows` does not name this".into(),
            Refusal::Limited => "a token with fewer rights than its person makes no tokens, links or sessions; use another".into(),
            Refusal::Lacks { role, on } => {
                let of = on.as_deref().unwrap_or("the service");
                let give = match givers {
                    [] => String::new(),
                    [one] => format!("; {one} can give it"),
                    [more @ .., last] => format!("; {} or {last} can give it", more.join(", ")),
                };
                format!("this needs the role {} of {of}{give}", role.word())
            }
        }
    }
}

/// Whether an actor with these rights may do this. The only place where that is decided.
///
/// ```
/// use ordotaxis_core::access::{Action, Grants, Object, Refusal, Rights, Role, Seen, allowed};
/// let odd = Rights::Person(Grants { projects: [("tidegauge".to_owned(), Role::Reader)].into(), ..Grants::default() });
/// let tidegauge = Object::Project { name: "tidegauge", seen: Seen::Granted };
/// let refused = allowed(&odd, Action::StartRun, tidegauge).expect_err("a reader starts nothing");
/// assert_eq!(refused.sentence(&["Ines".to_owned()]), "this needs the role operator of tidegauge; Ines can give it");
/// let stations = Object::Project { name: "stations", seen: Seen::Granted };
/// assert_eq!(allowed(&odd, Action::StartRun, stations), Err(Refusal::Hidden), "not even that it is there");
/// ```
pub fn allowed(rights: &Rights, action: Action, object: Object<'_>) -> Result<(), Refusal> {
    let needs = action.needs();
    if needs == Needs::Nothing {
        return Ok(());
    }
    match rights {
        Rights::Job { starts, run_project } => match (action, object) {
            (Action::StartRun, Object::Project { name, .. }) if starts.contains(name) => Ok(()),
            (Action::AddNote, Object::Project { name, .. }) if run_project.as_deref() == Some(name) => Ok(()),
            _ => Err(Refusal::NotForJobs),
        },
        Rights::Nobody => match (needs, object) {
            (Needs::Role(Role::Reader), Object::Project { seen: Seen::Public, .. }) if !action.is_for_signed_in() => Ok(()),
            _ => Err(Refusal::NotSignedIn),
        },
        Rights::Person(grants) if action.gives_rights() && grants.limit != Limit::default() => Err(Refusal::Limited),
        Rights::Person(grants) => {
            let held = grants.role_on(object);
            match (needs, object) {
                (Needs::SignedIn | Needs::Nothing, _) => Ok(()),
                (Needs::Role(role), _) if held >= Some(role) => Ok(()),
                (Needs::Role(_), Object::Project { .. }) if held.is_none() => Err(Refusal::Hidden),
                (Needs::Role(role), Object::Project { name, .. }) => Err(Refusal::Lacks { role, on: Some(name.to_owned()) }),
                (Needs::Role(role), Object::Service) => Err(Refusal::Lacks { role, on: None }),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::{BTreeMap, BTreeSet};

    const PROJECTS: [&str; 3] = ["tidegauge", "almanac", "stations"];

    fn roles() -> impl Strategy<Value = Option<Role>> {
        prop::option::of(prop::sample::select(Role::ALL.to_vec()))
    }

    fn grants() -> impl Strategy<Value = Grants> {
        let limit = (roles(), prop::option::of(prop::collection::btree_set(prop::sample::select(PROJECTS.to_vec()), 0..3)));
        (roles(), [roles(), roles(), roles()], limit).prop_map(|(service, on, (role, projects))| Grants {
            service,
            projects: PROJECTS.iter().zip(on).filter_map(|(name, role)| Some(((*name).to_owned(), role?))).collect(),
            limit: Limit { role, projects: projects.map(|names| names.into_iter().map(str::to_owned).collect()) },
        })
    }

    fn objects() -> impl Strategy<Value = Object<'static>> {
        let project = (prop::sample::select(PROJECTS.to_vec()), prop::sample::select(vec![Seen::All, Seen::Granted, Seen::Public]));
        prop_oneof![Just(Object::Service), project.prop_map(|(name, seen)| Object::Project { name, seen })]
    }

    /// Written the long way round: every way to hold a role, one after the other.
    fn reference(grants: &Grants, role: Role, object: Object<'_>) -> bool {
        let mut ways: Vec<Role> = grants.service.into_iter().collect();
        let mut within = grants.limit.projects.is_none();
        if let Object::Project { name, seen } = object {
            ways.extend(grants.projects.get(name).copied());
            if seen != Seen::Granted {
                ways.push(Role::Reader);
            }
            within = grants.limit.projects.as_ref().is_none_or(|names| names.contains(name));
        }
        let capped = grants.limit.role.is_none_or(|most| role <= most);
        within && capped && ways.iter().any(|held| *held >= role)
    }

    proptest! {
        #[test]
        fn a_person_may_what_one_of_the_roles_allows(grants in grants(), action in prop::sample::select(Action::ALL.to_vec()), object in objects()) {
            let answer = allowed(&Rights::Person(grants.clone()), action, object);
            if action.gives_rights() && grants.limit != Limit::default() {
                prop_assert_eq!(answer, Err(Refusal::Limited), "a limited token leads to no more than it has");
                return Ok(());
            }
            match action.needs() {
                Needs::Role(role) => {
                    prop_assert_eq!(answer.is_ok(), reference(&grants, role, object), "{:?} {:?}", action, answer);
                    let sees = reference(&grants, Role::Reader, object);
                    let hidden = answer == Err(Refusal::Hidden);
                    prop_assert_eq!(hidden, !sees && object != Object::Service, "who does not see it learns nothing of it");
                }
                _ => prop_assert_eq!(answer, Ok(())),
            }
        }

        /// A token never gives more than its person has.
        #[test]
        fn a_limit_only_takes_away(grants in grants(), action in prop::sample::select(Action::ALL.to_vec()), object in objects()) {
            let whole = Grants { limit: Limit::default(), ..grants.clone() };
            if allowed(&Rights::Person(grants), action, object).is_ok() {
                prop_assert_eq!(allowed(&Rights::Person(whole), action, object), Ok(()));
            }
        }

        /// Without signing in: only reading, only of public projects.
        #[test]
        fn nobody_reads_what_is_public_and_changes_nothing(action in prop::sample::select(Action::ALL.to_vec()), object in objects()) {
            if allowed(&Rights::Nobody, action, object).is_ok() && action.needs() != Needs::Nothing {
                let public = matches!(object, Object::Project { seen: Seen::Public, .. });
                prop_assert!(public);
                prop_assert_eq!(action.needs(), Needs::Role(Role::Reader));
            }
        }
    }

    #[test]
    fn a_job_may_only_what_it_asked_for() {
        let rights = Rights::Job { starts: BTreeSet::from(["stations".to_owned()]), run_project: None };
        let on = |name| Object::Project { name, seen: Seen::All };
        for action in Action::ALL {
            let free = action.needs() == Needs::Nothing;
            assert_eq!(allowed(&rights, action, on("stations")).is_ok(), free || action == Action::StartRun, "{action:?}");
            assert_eq!(allowed(&rights, action, on("almanac")).is_ok(), free, "{action:?}");
        }
    }

    #[test]
    fn a_refusal_says_what_is_missing_and_who_can_give_it() {
        let lacks = Refusal::Lacks { role: Role::Operator, on: Some("tidegauge".into()) };
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        assert_eq!(lacks.sentence(&names(&["maren"])), "this needs the role operator of tidegauge; maren can give it");
        assert_eq!(lacks.sentence(&names(&["ines", "maren"])), "this needs the role operator of tidegauge; ines or maren can give it");
        let lacks = Refusal::Lacks { role: Role::Owner, on: None };
        assert_eq!(lacks.sentence(&[]), "this needs the role owner of the service");
    }

    #[test]
    fn words_are_read_back_and_are_given_once() {
        let words: BTreeMap<&str, Action> = Action::ALL.into_iter().map(|action| (action.word(), action)).collect();
        assert_eq!(words.len(), Action::ALL.len());
        for role in Role::ALL {
            assert_eq!(role.word().parse(), Ok(role));
        }
        for seen in [Seen::All, Seen::Granted, Seen::Public] {
            assert_eq!(seen.word().parse(), Ok(seen));
        }
        assert!("admin".parse::<Role>().is_err() && "".parse::<Seen>().is_err());
    }
}
